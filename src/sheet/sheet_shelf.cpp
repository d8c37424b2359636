// Sheets, which of them fits a save, and where they come from.
#include <fmt/format.h>
#include <bayswap/sheet.hpp>

#include <algorithm>

#include "base/built_in.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "sheet/model.hpp"

namespace bayswap {

Result<Sheet> Sheet::parse(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(sheets::Sheet content, sheets::read_sheet(toml, origin));
  Sheet sheet;
  sheet.content_ = std::make_shared<const sheets::Sheet>(std::move(content));
  return sheet;
}

const std::string& Sheet::id() const {
  return content_->id;
}
const std::string& Sheet::name(std::string_view language) const {
  const std::string& name = content_->name.in(language);
  return name.empty() ? content_->id : name;
}
const std::string& Sheet::bound_to_card(std::string_view language) const {
  return content_->bound_to_card.in(language);
}
std::int64_t Sheet::revision() const {
  return content_->revision;
}
Platform Sheet::platform() const {
  return content_->platform;
}
bool Sheet::wants_rom_digest() const {
  return !content_->rom_digests.empty();
}
const std::vector<std::string>& Sheet::codes() const {
  return content_->codes;
}

namespace {

bool is_listed(const std::vector<std::string>& list, const std::string& one) {
  return std::ranges::any_of(list, [&](const std::string& other) { return lower(other) == lower(one); });
}

// Consoles whose saves are the memories of a cartridge or of the machine, and never a folder of files.
bool has_chips(Platform platform) {
  switch (platform) {
    case Platform::gc:
    case Platform::wii:
    case Platform::wiiu:
    case Platform::n3ds:
    case Platform::sat:
    case Platform::dc:
    case Platform::ps1:
    case Platform::ps2:
    case Platform::psp:
    case Platform::x360:
      return false;
    default:
      return true;
  }
}

bool has_mark(const sheets::Magic& magic, const SheetFile& file) {
  return (magic.file.empty() || file_fits(magic.file, file.name)) &&
         sheets::is_marked(magic, file.bytes.view());
}

}  // namespace

bool Sheet::is_for_chips() const {
  return has_chips(content_->platform);
}

std::optional<std::string> Sheet::misfit(const std::optional<GameId>& game,
                                         const std::vector<SheetFile>& files) const {
  const sheets::Sheet& sheet = *content_;
  if (files.empty()) return "the save has no files";
  if (game && saves_as(game->platform) != saves_as(sheet.platform))
    return fmt::format("it is for {}, and the save is of {}", tag(sheet.platform), tag(game->platform));
  if (has_chips(sheet.platform) && files.size() > 1 && std::ranges::none_of(files, [](const SheetFile& file) {
        return role_from_text(file.name).has_value();
      }))
    return fmt::format("it is for {}, whose saves are no folders of files", tag(sheet.platform));
  if (game && !game->code.empty() && !sheet.codes.empty() && !is_listed(sheet.codes, game->code))
    return fmt::format("it is for {}, and the save is of {}", joined(sheet.codes, ", "), game->code);
  if (game && !game->title.empty() && sheet.codes.empty() && !sheet.titles.empty() &&
      !is_listed(sheet.titles, game->title))
    return fmt::format("it is for '{}', and the save is of '{}'", sheet.titles.front(), game->title);
  const bool has_size = std::ranges::any_of(files, [&](const SheetFile& file) {
    return std::ranges::find(sheet.sizes, file.bytes.size()) != sheet.sizes.end();
  });
  if (!sheet.sizes.empty() && !has_size)
    return fmt::format("the save has another size: {} bytes", files.front().bytes.size());
  for (const sheets::Magic& magic : sheet.magics)
    if (std::ranges::none_of(files, [&](const SheetFile& file) { return has_mark(magic, file); }))
      return fmt::format("the save does not have its mark at {:X}", magic.at);
  for (const sheets::FieldDef& field : sheet.records.front().fields) {
    if (field.pattern.empty() || field.is_optional || field.is_array) continue;
    if (std::ranges::none_of(files,
                             [&](const SheetFile& file) { return file_fits(field.pattern, file.name); }))
      return fmt::format("the save has no file {}", field.pattern);
  }
  return std::nullopt;
}

std::optional<SheetFit> Sheet::fit(const std::optional<GameId>& game, const std::vector<SheetFile>& files,
                                   std::string_view rom_digest) const {
  const sheets::Sheet& sheet = *content_;
  if (misfit(game, files)) return std::nullopt;
  SheetFit fit;
  const auto add = [&](double score, std::string reason) {
    fit.score = 1 - (1 - fit.score) * (1 - score);
    fit.reasons.push_back(std::move(reason));
  };
  if (!rom_digest.empty() && is_listed(sheet.rom_digests, std::string(rom_digest)))
    add(0.99, "the sheet names the ROM's digest");
  if (game && !game->code.empty() && is_listed(sheet.codes, game->code))
    add(0.9, fmt::format("its product code is {}", game->code));
  if (game && !game->title.empty() && is_listed(sheet.titles, game->title))
    add(0.6, fmt::format("its title is {}", game->title));
  for (const sheets::Magic& magic : sheet.magics) add(0.7, fmt::format("its mark is at {:X}", magic.at));
  // A size alone is that of many games.
  if (fit.score == 0) return std::nullopt;
  if (!sheet.sizes.empty()) add(0.1, "it has the size");
  return fit;
}

SheetShelf::SheetShelf() {
  for (const BuiltInText& text : built_in_sheets()) {
    auto sheet = Sheet::parse(text.toml, std::string(text.id) + ".toml");
    if (sheet) sheets_.push_back(*std::move(sheet));
  }
}

Result<void> SheetShelf::add(std::string_view toml, const std::string& origin) {
  BAYSWAP_TRY(Sheet sheet, Sheet::parse(toml, origin));
  std::erase_if(sheets_, [&](const Sheet& other) { return other.id() == sheet.id(); });
  sheets_.push_back(std::move(sheet));
  return {};
}

const Sheet* SheetShelf::find(std::string_view id) const {
  const auto found = std::ranges::find_if(sheets_, [&](const Sheet& one) { return one.id() == id; });
  return found == sheets_.end() ? nullptr : &*found;
}

const Sheet* SheetShelf::best(const std::optional<GameId>& game, const std::vector<SheetFile>& files,
                              std::string_view rom_digest) const {
  const Sheet* best = nullptr;
  double score = 0;
  for (const Sheet& sheet : sheets_) {
    const auto fit = sheet.fit(game, files, rom_digest);
    // The user's own come last, and win where both fit as well.
    if (fit && fit->score >= score) {
      best = &sheet;
      score = fit->score;
    }
  }
  return best;
}

}  // namespace bayswap
