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

Result<Picture> from_png(const Blob& file) {
  constexpr png_uint_32 most = 4096;
  const auto damaged = [](const png_image& image) {
    return fail(ErrorCode::damaged, std::string("the picture can't be read: ") + image.message,
                "any other part of the file may still be good");
  };
  png_image image{};
  image.version = PNG_IMAGE_VERSION;
  if (png_image_begin_read_from_memory(&image, file.data(), file.size()) == 0) return damaged(image);
  if (image.width > most || image.height > most || image.width == 0 || image.height == 0) {
    png_image_free(&image);
    return fail(ErrorCode::does_not_fit, "the picture is larger than 4096 by 4096 pixels", "");
  }
  image.format = PNG_FORMAT_RGBA;
  std::vector<Byte> bytes(PNG_IMAGE_SIZE(image));
  if (png_image_finish_read(&image, nullptr, bytes.data(), 0, nullptr) == 0) return damaged(image);
  Picture picture;
  picture.width = image.width;
  picture.height = image.height;
  picture.pixels.reserve(bytes.size() / 4);
  for (std::size_t i = 0; i + 4 <= bytes.size(); i += 4)
    picture.pixels.push_back(std::uint32_t{bytes[i]} << 24 | std::uint32_t{bytes[i + 1]} << 16 |
                             std::uint32_t{bytes[i + 2]} << 8 | bytes[i + 3]);
  return picture;
}

}  // namespace bayswap
