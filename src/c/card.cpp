// Memory cards over the C interface.
#include <fmt/format.h>

#include "answer/answers.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "c/handles.hpp"
#include "c/request.hpp"

namespace bayswap::c {
namespace {

Result<Blob> single_file(const CardSave& save, std::string_view form) {
  if (form == "payload" && !save.files.empty())
    return fail(ErrorCode::unsupported,
                fmt::format("{} is a folder of {} files", printable(save.name), save.files.size()),
                "take it as a single save or a parcel");
  if (form == "payload") return save.payload;
  if (form == "parcel") return to_parcel(save);
  if (!form.empty() && form != "single")
    return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a form", printable(form)),
                "pass single, parcel or payload");
  auto single = to_single_save(save);
  if (!single && form.empty() && single.error().code == ErrorCode::unsupported) return to_parcel(save);
  return single;
}

}  // namespace
}  // namespace bayswap::c

using namespace bayswap;     // NOLINT(google-build-using-namespace): the functions are C's, outside of any
using namespace bayswap::c;  // NOLINT(google-build-using-namespace)

extern "C" {

bsw_status bsw_card_open(const uint8_t* bytes, size_t size, int slot, bsw_card** card) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card}));
    BAYSWAP_TRY(const Blob file, bytes_from(bytes, size));
    auto opened = std::make_unique<bsw_card>();
    BAYSWAP_TRY(opened->card, open_card(file, slot));
    opened->slots = card_slots(file.view());
    *card = opened.release();
    return {};
  });
}

bsw_status bsw_card_make(const char* request, bsw_card** card) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    const std::string word = asked.text("kind");
    NewCardOptions options;
    options.blocks = static_cast<std::size_t>(std::max<std::int64_t>(0, asked.number("blocks")));
    options.image_bytes = static_cast<std::size_t>(std::max<std::int64_t>(0, asked.number("image_bytes")));
    options.form = asked.text("form");
    options.formatted = asked.number("formatted");
    options.japanese = asked.flag("japanese");
    BAYSWAP_CHECK(asked.end());
    const auto kind = card_kind_from_text(word);
    if (!kind) {
      std::vector<std::string> kinds;
      for (const CardKind one : all_card_kinds()) kinds.emplace_back(to_text(one));
      return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a kind of card", printable(word)),
                  "pass one of the kinds", {Remedy::Kind::kind, std::move(kinds)});
    }
    auto made = std::make_unique<bsw_card>();
    BAYSWAP_TRY(made->card, make_card(*kind, options));
    *card = made.release();
    return {};
  });
}

bsw_status bsw_card_list(const bsw_card* card, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card, json}));
    *json = text_out(card_json(*card->card, card->slots));
    return {};
  });
}

bsw_status bsw_card_icon(const bsw_card* card, const char* name, uint32_t frame, uint32_t* width,
                         uint32_t* height, bsw_bytes* rgba) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card, name, width, height, rgba}));
    BAYSWAP_TRY(const CardSave save, card->card->read(name));
    const SaveIcon icon = icon_of(save);
    if (frame >= icon.frames.size())
      return fail(ErrorCode::not_found,
                  fmt::format("{} has {} pictures", printable(name), icon.frames.size()),
                  "they are counted from 0");
    const Picture& picture = icon.frames[frame];
    Buffer pixels(4 * picture.pixels.size());
    for (std::size_t i = 0; i < picture.pixels.size(); ++i)
      for (std::size_t k = 0; k < 4; ++k)
        pixels.bytes()[4 * i + k] = static_cast<Byte>(picture.pixels[i] >> (24 - 8 * k));
    *rgba = bytes_out(std::move(pixels).freeze());
    *width = static_cast<uint32_t>(picture.width);
    *height = static_cast<uint32_t>(picture.height);
    return {};
  });
}

bsw_status bsw_card_take(const bsw_card* card, const char* name, const char* form, bsw_bytes* file) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card, name, file}));
    BAYSWAP_TRY(const CardSave save, card->card->read(name));
    BAYSWAP_TRY(Blob bytes, single_file(save, form == nullptr ? "" : form));
    *file = bytes_out(std::move(bytes));
    return {};
  });
}

bsw_status bsw_card_add(bsw_card* card, const uint8_t* bytes, size_t size) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card}));
    BAYSWAP_TRY(const Blob file, bytes_from(bytes, size));
    BAYSWAP_TRY(const CardSave save, single_save_from(file));
    return card->card->put(save);
  });
}

bsw_status bsw_card_drop(bsw_card* card, const char* name) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card, name}));
    return card->card->drop(name);
  });
}

bsw_status bsw_card_undelete(bsw_card* card, const char* name) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card, name}));
    return card->card->undelete(name);
  });
}

bsw_status bsw_card_image(const bsw_card* card, bsw_bytes* image) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({card, image}));
    *image = bytes_out(card->card->image());
    return {};
  });
}

void bsw_card_free(bsw_card* card) {
  delete card;
}

}  // extern "C"
