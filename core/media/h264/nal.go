package h264

import (
	"bytes"
	"iter"
)

// nal_unit_type (table 7-1).
const (
	nalSlice      = 1
	nalPartitionA = 2
	nalPartitionC = 4
	nalIDR        = 5
	nalSEI        = 6
	nalSPS        = 7
	nalPPS        = 8
	nalDelimiter  = 9
	nalEndOfSeq   = 10
	nalPrefix     = 14
	nalSPSExt     = 13
	nalAuxiliary  = 19
	nalExtension  = 20
)

// annexB yields the NAL units of a byte stream (annex B), without their start
// codes and trailing zeros.
func annexB(data []byte) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		_, data = cutStartCode(data)
		for len(data) > 0 {
			var unit []byte
			unit, data = cutStartCode(data)
			if unit = bytes.TrimRight(unit, "\x00"); len(unit) > 0 && !yield(unit) {
				return
			}
		}
	}
}

// cutStartCode returns what stands before and behind the first start code.
func cutStartCode(data []byte) (before, behind []byte) {
	i := bytes.Index(data, []byte{0, 0, 1})
	if i < 0 {
		return data, nil
	}
	return data[:i], data[i+3:]
}

// lengthPrefixed yields NAL units that each follow their length in size bytes
// (ISO/IEC 14496-15, 5.3.4.2). A length beyond the end ends with what there is.
func lengthPrefixed(data []byte, size int) iter.Seq[[]byte] {
	return func(yield func([]byte) bool) {
		for len(data) > size {
			n := 0
			for _, b := range data[:size] {
				n = n<<8 | int(b)
			}
			data = data[size:]
			n = min(n, len(data))
			if n > 0 && !yield(data[:n]) {
				return
			}
			data = data[n:]
		}
	}
}

// unescape appends the RBSP of a NAL unit's payload to dst: without the
// emulation prevention bytes (7.3.1) and with eight zero bytes behind it that
// are not counted in its length.
func unescape(dst, payload []byte) []byte {
	for {
		i := bytes.Index(payload, []byte{0, 0, 3})
		if i < 0 {
			break
		}
		dst = append(dst, payload[:i+2]...)
		payload = payload[i+3:]
	}
	dst = append(dst, payload...)
	n := len(dst)
	return append(dst, 0, 0, 0, 0, 0, 0, 0, 0)[:n]
}
