package h264

import (
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/core/media/codec/bits"
)

// Codes of one table must not be the beginning of one another, and together
// they use up all bit strings but those that the standard leaves unused.
func TestCodeTablesAreSound(t *testing.T) {
	unused := map[string]float64{}
	for name, table := range codeTables() {
		sum := 0.0
		for i, a := range table {
			sum += 1 / float64(int(1)<<len(a))
			for j, b := range table {
				require.False(t, i != j && strings.HasPrefix(b, a), "%s: %s and %s", name, a, b)
			}
		}
		require.LessOrEqual(t, sum, 1.0, name)
		if sum < 1 {
			unused[name] = 1 - sum
		}
	}
	for name, share := range unused { // what is left over is the shortest of leftovers: all zeros
		require.Less(t, share, 1.0/100, name)
	}
}

func codeTables() map[string][]string {
	tables := map[string][]string{}
	for name, lines := range map[string]string{"total_zeros": totalZerosCodes, "run_before": runBeforeCodes,
		"total_zeros 4:2:0": totalZerosDC420Codes, "total_zeros 4:2:2": totalZerosDC422Codes} {
		for i, line := range strings.Split(strings.TrimSpace(lines), "\n") {
			tables[name+" "+string(rune('a'+i))] = strings.Fields(line)
		}
	}
	for _, line := range strings.Split(strings.TrimSpace(coeffTokenCodes), "\n") {
		for i, code := range strings.Fields(line) {
			if code != "-" {
				name := "coeff_token " + string(rune('a'+i))
				tables[name] = append(tables[name], code)
			}
		}
	}
	return tables
}

func TestEveryCodeIsFound(t *testing.T) {
	for name, table := range codeTables() {
		v := newCodeTable(table)
		for value, code := range table {
			bits := uint32(0)
			for i := range 32 {
				bits <<= 1
				if i < len(code) && code[i] == '1' || i >= len(code) && i%3 == 0 {
					bits |= 1
				}
			}
			got, length := v.lookup(uint64(bits) << 32)
			require.Equal(t, [2]int{value, len(code)}, [2]int{got, length}, "%s %s", name, code)
		}
	}
}

// The routine of this processor parses the same from any bits as the one in Go.
func TestBlocksAreTheSameInGo(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	type kind struct{ cat, table, size int }
	kinds := []kind{{catChromaDC, 3, 4}, {catChromaDC, 4, 8}}
	for _, table := range []int{0, 1, 2, 5} {
		kinds = append(kinds, kind{cat4x4, table, 16}, kind{catAC16, table, 15})
	}
	parsed := 0
	for seed := range 30_000 {
		data := make([]byte, 64+random.IntN(300))
		sparse := random.IntN(3) // long codes
		for i := range data {
			data[i] = uint8(random.Uint32())
			for range sparse {
				data[i] &= uint8(random.Uint32())
			}
		}
		k := kinds[random.IntN(len(kinds))]
		scan, scale := make([]uint8, k.size), make([]int32, 16)
		for i, place := range random.Perm(k.size) {
			scan[i] = uint8(place)
		}
		for i := range scale {
			scale[i] = int32(random.IntN(1 << 16))
		}
		shift := uint(random.IntN(7))
		parse := func(coeffs func(d *sliceDecoder, b *block, table int) (int, error)) (total, pos int, out [16]int32, err error) {
			d := sliceDecoder{r: bits.NewReader(data)}
			d.r.Skip(seed % 8)
			total, err = coeffs(&d, &block{k.cat, out[:], scan, scale, shift}, k.table)
			return total, d.r.Pos(), out, err
		}
		total, pos, out, err := parse((*sliceDecoder).cavlcCoeffsGo)
		fastTotal, fastPos, fastOut, fastErr := parse((*sliceDecoder).cavlcCoeffs)
		require.Equal(t, err, fastErr, seed)
		if err == nil {
			require.Equal(t, []any{total, pos, out}, []any{fastTotal, fastPos, fastOut}, "%v", k)
			parsed += oneIf(total > 0)
		}
	}
	require.Greater(t, parsed, 10_000)
}
