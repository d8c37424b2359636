#include <bayswap/picture.hpp>

#include <png.h>

namespace bayswap {

Result<Blob> to_png(const Picture& picture) {
  if (picture.width == 0 || picture.height == 0 || picture.pixels.size() != picture.width * picture.height)
    return fail(ErrorCode::bad_usage, "a picture without pixels");
  std::vector<Byte> bytes;
  bytes.reserve(picture.pixels.size() * 4);
  for (const std::uint32_t pixel : picture.pixels)
    for (int shift = 24; shift >= 0; shift -= 8) bytes.push_back(static_cast<Byte>(pixel >> shift & 0xffU));
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  image.width = static_cast<png_uint_32>(picture.width);
  image.height = static_cast<png_uint_32>(picture.height);
  image.format = PNG_FORMAT_RGBA;
  png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(image);
  Buffer file(size);
  if (png_image_write_to_memory(&image, file.bytes().data(), &size, 0, bytes.data(), 0, nullptr) == 0)
    return fail(ErrorCode::io, std::string("the picture could not be made into a PNG file: ") + image.message,
                "try again with more memory");
  return std::move(file).freeze(size);
}

}  // namespace bayswap
