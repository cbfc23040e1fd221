//go:build amd64 || arm64

package motion

import "unsafe"

// First returns the address of a block that s contains completely. Rows are padded after it, so
// that loads may reach further.
func First(s []uint8, stride, w, h int) *uint8 {
	_ = s[(h-1)*stride+w-1]
	return &s[0]
}

// FirstWide returns the address of a block of two-byte samples that s contains completely.
func FirstWide(s []uint16, stride, w, h int) *byte {
	_ = s[(h-1)*stride+w-1]
	return (*byte)(unsafe.Pointer(&s[0]))
}
