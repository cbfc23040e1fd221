package motion

// Vector is a motion vector in quarter samples.
type Vector struct{ X, Y int16 }
