//go:build !linux || (!amd64 && !arm64 && !riscv64)

package eye

import "errors"

func openCapture(string) (Eye, error) {
	return nil, errors.New("--eye capture reads capture cards on 64-bit Linux only; record with one, and see recount")
}
