package h264

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
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
