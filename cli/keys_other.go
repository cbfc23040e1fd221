//go:build !unix

package cli

import (
	"errors"
	"os"
)

// oneByOne is not supported on this system.
func oneByOne(*os.File) (restore func(), err error) {
	return nil, errors.New("keys cannot be read one by one here")
}
