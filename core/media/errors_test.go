package media

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"
)

// An error says where in the file it is, as soon as somebody knows.
func TestErrorsArePlaced(t *testing.T) {
	unplaced := &FormatError{Format: "h264", Offset: -1, What: "a slice is truncated"}
	require.EqualError(t, unplaced, "damaged h264: a slice is truncated")
	placed := At(unplaced, 4711)
	require.EqualError(t, placed, "damaged h264 at byte 4711: a slice is truncated")
	require.Equal(t, placed, At(placed, 12), "the first to know is right")
	require.Equal(t, unplaced, At(unplaced, 0))
	other := errors.New("disk full")
	require.Equal(t, other, At(other, 5))
	require.NoError(t, At(nil, 5))
}
