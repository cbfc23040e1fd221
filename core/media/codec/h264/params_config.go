package h264

import "fmt"

// config is an AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1).
type config struct {
	prefix int
	sets   [][]byte // NAL units
}

func parseConfig(record []byte) (config, error) {
	if len(record) < 7 {
		return config{}, damaged(fmt.Sprintf("the decoder configuration record has %d bytes, not 7 or more (ISO/IEC 14496-15, 5.3.3.1)", len(record)))
	}
	if record[0] != 1 {
		return config{}, damaged(fmt.Sprintf("the decoder configuration record has version %d, not 1 (ISO/IEC 14496-15, 5.3.3.1)", record[0]))
	}
	c := config{prefix: int(record[4]&3) + 1}
	rest := record[5:]
	for i, mask := range []byte{0x1F, 0xFF} {
		if len(rest) == 0 {
			if i == 1 {
				break // some writers leave the picture parameter sets out
			}
			return config{}, damaged("the decoder configuration record is truncated (ISO/IEC 14496-15, 5.3.3.1)")
		}
		n := int(rest[0] & mask)
		rest = rest[1:]
		for range n {
			if len(rest) < 2 || len(rest) < 2+int(rest[0])<<8+int(rest[1]) {
				return config{}, damaged("the decoder configuration record is truncated (ISO/IEC 14496-15, 5.3.3.1)")
			}
			size := int(rest[0])<<8 + int(rest[1])
			if size > 0 {
				c.sets = append(c.sets, rest[2:2+size])
			}
			rest = rest[2+size:]
		}
	}
	return c, nil
}
