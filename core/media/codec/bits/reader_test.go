package bits

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestFixedFields(t *testing.T) {
	r := NewReader([]byte{0b10110011, 0x12, 0x34, 0x56, 0x78, 0x9A, 0xBC, 0xDE, 0xF0, 0x55})
	require.True(t, r.Flag())
	require.EqualValues(t, 0b011, r.U(3))
	require.EqualValues(t, 0, r.U(0))
	require.EqualValues(t, 0b0011_0001, r.U(8))
	require.False(t, r.Aligned())
	require.EqualValues(t, 0x23456789, r.U(32))
	r.Align()
	require.Equal(t, []byte{0xBC, 0xDE, 0xF0, 0x55}, r.Rest())
	require.Equal(t, 32, r.Left())
}

// The codes of Rec. ITU-T H.264, table 9-2 and 9-3.
func TestExpGolomb(t *testing.T) {
	for code, want := range map[uint32][2]int{
		0b1 << 31: {0, 0}, 0b010 << 29: {1, 1}, 0b011 << 29: {2, -1}, 0b00100 << 27: {3, 2},
		0b00111 << 27: {6, -3}, 0b0001000 << 25: {7, 4},
	} {
		data := []byte{byte(code >> 24), byte(code >> 16), byte(code >> 8), byte(code), 0, 0}
		r, s := NewReader(data), NewReader(data)
		require.EqualValues(t, want[0], r.UE(), "%032b", code)
		require.EqualValues(t, want[1], s.SE(), "%032b", code)
	}
	long := NewReader([]byte{0, 0, 1, 0, 0, 0}) // 23 zeros, 1, 23 zeros
	require.EqualValues(t, 1<<23-1, long.UE())
	longest := NewReader([]byte{0, 0, 0, 0, 0x80, 0, 0, 0, 0}) // 32 zeros, 1, 32 zeros
	require.EqualValues(t, uint32(1<<32-1), longest.UE())
	require.False(t, longest.Overrun())
}

func TestBeyondTheEndAreZeros(t *testing.T) {
	r := NewReader([]byte{0xFF})
	require.EqualValues(t, 0xFF00, r.U(16))
	require.True(t, r.Overrun())
	require.Negative(t, r.Left())
	var none Reader
	require.Zero(t, none.UE())
	require.True(t, none.Overrun())
	require.Empty(t, none.Rest())
}

func TestMoreRBSP(t *testing.T) {
	r := NewReader([]byte{0b1010_1000, 0, 0}) // 1010, stop bit, zeros
	for range 4 {
		require.True(t, r.MoreRBSP())
		r.U(1)
	}
	require.False(t, r.MoreRBSP())
	empty := NewReader([]byte{0, 0})
	require.False(t, empty.MoreRBSP())
}

// A window shows what would be read, wherever the reader is, and zeros
// behind the end.
func TestWindowShowsWhatComes(t *testing.T) {
	data := make([]byte, 23)
	for i := range data {
		data[i] = byte(i*37 + 11)
	}
	for pos := range 8*len(data) + 20 {
		r := NewReader(data)
		r.Skip(pos)
		window, peek := r.Window(), r.Peek()
		require.Equal(t, pos, r.Pos(), "nothing was read")
		require.EqualValues(t, peek, window>>32, "at %d", pos)
		for i := range 57 {
			bit := uint64(0)
			if at := pos + i; at < 8*len(data) {
				bit = uint64(data[at>>3] >> (7 - at&7) & 1)
			}
			require.Equal(t, bit, window>>(63-i)&1, "bit %d at %d", i, pos)
		}
	}
}
