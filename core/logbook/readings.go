package logbook

import (
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"strings"

	"vividstrain/core/sense"
)

// encodeReadings writes readings as a JSON object from key to value. Values
// that JSON cannot carry are left out.
func encodeReadings(list []sense.Reading) string {
	b := make([]byte, 0, 32*len(list)+2)
	for _, r := range list {
		if math.IsNaN(r.Value) || math.IsInf(r.Value, 0) {
			continue
		}
		separator := byte(',')
		if len(b) == 0 {
			separator = '{'
		}
		b = append(b, separator)
		b = strconv.AppendQuote(b, r.Key())
		b = append(b, ':')
		b = strconv.AppendFloat(b, math.Round(r.Value*1000)/1000, 'f', -1, 64)
	}
	if len(b) == 0 {
		return "{}"
	}
	return string(append(b, '}'))
}

type keyValue struct {
	key   string
	value float64
}

// decodeReadings is the inverse of encodeReadings, ordered by key.
func decodeReadings(text string) ([]keyValue, error) {
	var m map[string]float64
	if err := json.Unmarshal([]byte(text), &m); err != nil {
		return nil, err
	}
	list := make([]keyValue, 0, len(m))
	for k, v := range m {
		list = append(list, keyValue{k, v})
	}
	slices.SortFunc(list, func(a, b keyValue) int { return strings.Compare(a.key, b.key) })
	return list, nil
}
