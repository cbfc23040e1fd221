package inspect_test

import (
	"context"
	"fmt"

	"vividstrain/core/media/inspect"
)

func ExampleFile() {
	r, err := inspect.File(context.Background(), "../codec/h264/testdata/main-cabac-b.264")
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(r.Codec, r.Profile, r.Level, r.Width, r.Height, r.Frames)
	// Output:
	// h264 Main 1.2 208 160 18
}
