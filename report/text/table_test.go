package text

import (
	"testing"

	"github.com/stretchr/testify/require"

	"vividstrain/report/model"
)

// A table that does not fit has first its optional columns left out, then its cells shortened.
func TestTablesThatDoNotFit(t *testing.T) {
	table := model.Table{Head: []string{"source", "goal", "extra"}, Optional: []int{2},
		Rows: [][]model.Cell{{{Text: "harbour"}, {Text: "0.3 s, 14 times real time", Short: "0.3 s"}, {Text: "more"}}}}
	require.Equal(t, "source   goal                       extra\nharbour  0.3 s, 14 times real time  more\n", Style{Width: 60}.Draw(table))
	require.Equal(t, "source   goal\nharbour  0.3 s, 14 times real time\n", Style{Width: 36}.Draw(table))
	require.Equal(t, "source   goal\nharbour  0.3 s\n", Style{Width: 30}.Draw(table))
}
