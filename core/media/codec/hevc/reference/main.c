/* Decodes an H.265 byte stream from standard input with libde265, for tests: each picture in order of
 * display, as a line "WIDTH HEIGHT PLANES BYTES" and its planes without padding, samples of more than
 * 8 bits with the low byte first. Damage that the library reports ends it with status 1. */
#include <libde265/de265.h>
#include <stdio.h>
#include <stdlib.h>

static int failed;

static void check(de265_error err) {
	if (!de265_isOK(err)) {
		fprintf(stderr, "%s\n", de265_get_error_text(err));
		failed = 1;
	}
}

static void print(const struct de265_image *img) {
	int planes = de265_get_chroma_format(img) == de265_chroma_mono ? 1 : 3;
	int bytes = de265_get_bits_per_pixel(img, 0) > 8 ? 2 : 1;
	printf("%d %d %d %d\n", de265_get_image_width(img, 0), de265_get_image_height(img, 0), planes, bytes);
	for (int c = 0; c < planes; c++) {
		int stride;
		const uint8_t *p = de265_get_image_plane(img, c, &stride);
		for (int y = 0; y < de265_get_image_height(img, c); y++)
			fwrite(p + (size_t)y * stride, bytes, de265_get_image_width(img, c), stdout);
	}
}

int main(void) {
	de265_decoder_context *ctx = de265_new_decoder();
	char buffer[1 << 16];
	size_t n;
	while ((n = fread(buffer, 1, sizeof buffer, stdin)) > 0)
		check(de265_push_data(ctx, buffer, n, 0, NULL));
	check(de265_flush_data(ctx));
	int more = 1;
	while (more && !failed) {
		de265_error err = de265_decode(ctx, &more);
		if (err != DE265_ERROR_WAITING_FOR_INPUT_DATA)
			check(err);
		const struct de265_image *img;
		while ((img = de265_get_next_picture(ctx)) != NULL)
			print(img);
		for (de265_error w; (w = de265_get_warning(ctx)) != DE265_OK;)
			check(w);
	}
	de265_free_decoder(ctx);
	return failed;
}
