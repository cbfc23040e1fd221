package inspect

import (
	"context"
	"fmt"

	"vividstrain/core/media"
	"vividstrain/core/media/registry"
)

// Checksums decodes the video of the file at path on the given number of threads and calls each
// with the MD5 of every picture in display order.
func Checksums(ctx context.Context, path string, threads int, each func(md5 string) error) error {
	f, err := registry.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := checksums(ctx, f, threads, each); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

func checksums(ctx context.Context, f *registry.File, threads int, each func(md5 string) error) error {
	video, err := f.Video()
	if err != nil {
		return err
	}
	damaged := 0
	err = registry.Decode(ctx, f, video, threads, func(frame media.Frame) error {
		if frame.Damaged {
			damaged++
		}
		return each(frame.MD5())
	})
	if err == nil && damaged > 0 {
		err = fmt.Errorf("%d pictures are damaged; missing parts were copied from other pictures", damaged)
	}
	return err
}
