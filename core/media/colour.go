package media

import "strconv"

// Names of code points of Rec. ITU-T H.273, tables 2 to 4.
var (
	primaryNames  = map[int]string{1: "BT.709", 4: "BT.470M", 5: "BT.601 625", 6: "BT.601 525", 7: "ST 240", 8: "film", 9: "BT.2020", 10: "XYZ", 11: "DCI-P3", 12: "Display P3"}
	transferNames = map[int]string{1: "BT.709", 4: "gamma 2.2", 5: "gamma 2.8", 6: "BT.601", 7: "ST 240", 8: "linear", 11: "xvYCC", 13: "sRGB",
		14: "BT.2020", 15: "BT.2020", 16: "PQ", 18: "HLG"}
	matrixNames = map[int]string{0: "RGB", 1: "BT.709", 4: "FCC", 5: "BT.601", 6: "BT.601", 7: "ST 240", 8: "YCgCo", 9: "BT.2020", 10: "BT.2020 constant", 14: "ICtCp"}
)

func codePoint(names map[int]string, code int) string {
	if name, known := names[code]; known {
		return name
	}
	if code == 2 {
		return "unspecified"
	}
	return "code " + strconv.Itoa(code)
}

// PrimariesName names the colour primaries.
func (c Colour) PrimariesName() string { return codePoint(primaryNames, c.Primaries) }

// TransferName names the transfer characteristics.
func (c Colour) TransferName() string { return codePoint(transferNames, c.Transfer) }

// MatrixName names the matrix coefficients.
func (c Colour) MatrixName() string { return codePoint(matrixNames, c.Matrix) }
