package registry_test

import (
	"context"
	"fmt"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// Decoding a stream on two threads, picture by picture.
func ExampleDecode() {
	file, err := registry.Open("../codec/h264/testdata/main-cabac-b.264")
	if err != nil {
		fmt.Println(err)
		return
	}
	defer file.Close()
	video, err := file.Video()
	if err != nil {
		fmt.Println(err)
		return
	}
	n := 0
	err = registry.Decode(context.Background(), file, video, 2, func(f media.Frame) error {
		if n++; n == 1 {
			fmt.Println(f.Width, f.Height, f.PTS, f.Damaged)
		}
		return nil
	})
	fmt.Println(n, err)
	// Output:
	// 208 160 0 false
	// 18 <nil>
}
