#include <bayswap/picture.hpp>

#include <png.h>

#include <csetjmp>

namespace bayswap {
namespace {

void append(png_structp png, png_bytep bytes, png_size_t count) {
  auto* out = static_cast<std::vector<Byte>*>(png_get_io_ptr(png));
  out->insert(out->end(), bytes, bytes + count);
}
void flush(png_structp /*png*/) {}

}  // namespace

Result<Blob> to_png(const Picture& picture) {
  if (picture.width == 0 || picture.height == 0 || picture.pixels.size() != picture.width * picture.height)
    return fail(ErrorCode::bad_usage, "a picture without pixels");
  std::vector<Byte> file;
  std::vector<Byte> row(picture.width * 4);
  png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, nullptr, nullptr, nullptr);
  png_infop info = png == nullptr ? nullptr : png_create_info_struct(png);
  if (info == nullptr ||
      setjmp(png_jmpbuf(png)) != 0) {  // NOLINT(cert-err52-cpp): how libpng tells of errors
    png_destroy_write_struct(&png, &info);
    return fail(ErrorCode::io, "the picture could not be made into a PNG file");
  }
  png_set_write_fn(png, &file, append, flush);
  png_set_IHDR(png, info, static_cast<png_uint_32>(picture.width), static_cast<png_uint_32>(picture.height),
               8, PNG_COLOR_TYPE_RGBA, PNG_INTERLACE_NONE, PNG_COMPRESSION_TYPE_DEFAULT,
               PNG_FILTER_TYPE_DEFAULT);
  png_write_info(png, info);
  for (std::size_t y = 0; y < picture.height; ++y) {
    for (std::size_t x = 0; x < picture.width; ++x)
      for (std::size_t channel = 0; channel < 4; ++channel)
        row[x * 4 + channel] =
            static_cast<Byte>((picture.pixels[y * picture.width + x] >> (24 - 8 * channel)) & 0xffU);
    png_write_row(png, row.data());
  }
  png_write_end(png, info);
  png_destroy_write_struct(&png, &info);
  return Blob::copy_of(file);
}

}  // namespace bayswap
