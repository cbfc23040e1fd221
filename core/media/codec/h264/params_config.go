package h264

// config is an AVCDecoderConfigurationRecord.
type config struct {
	prefix int
	sets   [][]byte // NAL units
}

func parseConfig(record []byte) (config, error) {
	if len(record) < 7 || record[0] != 1 {
		return config{}, damaged("the configuration record is not one")
	}
	c := config{prefix: int(record[4]&3) + 1}
	rest := record[5:]
	for i, mask := range []byte{0x1F, 0xFF} {
		if len(rest) == 0 {
			if i == 1 {
				break // some writers leave the picture parameter sets out
			}
			return config{}, damaged("the configuration record is cut short")
		}
		n := int(rest[0] & mask)
		rest = rest[1:]
		for range n {
			if len(rest) < 2 || len(rest) < 2+int(rest[0])<<8+int(rest[1]) {
				return config{}, damaged("the configuration record is cut short")
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
