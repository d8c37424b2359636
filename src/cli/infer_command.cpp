#include <bayswap/infer.hpp>
#include <bayswap/inspect.hpp>

#include <algorithm>
#include <bit>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "layout/integrity.hpp"

namespace bayswap::cli {
namespace {

class Learning {
 public:
  Learning(const Globals& globals, const InferOptions& options) : globals_(globals), options_(options) {}

  Result<int> run() {
    if (options_.files.size() % 2 != 0)
      return fail(ErrorCode::bad_usage,
                  options_.files.size() == 1 ? "one file is no pair"
                                             : fmt::format("{} files are no pairs", options_.files.size()),
                  "name them two by two: the known form, then the one to learn");
    BAYSWAP_TRY(home_, home_of(globals_));
    BAYSWAP_TRY(catalog_, catalog_of(globals_));
    BAYSWAP_CHECK(settle_platform());
    std::vector<Example> examples;
    for (std::size_t i = 0; i < options_.files.size(); i += 2) {
      BAYSWAP_TRY(Save known, read_known(options_.files[i]));
      BAYSWAP_TRY(Blob file, disk_.read(options_.files[i + 1]));
      examples.push_back({std::move(known), std::move(file)});
    }
    BAYSWAP_TRY(const std::string id, id_for(examples.front().save.platform));
    auto inferred = infer(examples, id);
    if (!inferred) {
      inferred.error().message =
          fmt::format("{} and {}: {}", options_.files[0], options_.files[1], inferred.error().message);
      return tl::unexpected(std::move(inferred.error()));
    }
    inferred->layout.extension =
        options_.files[1].empty() ? "" : std::string(extension_of(options_.files[1]));
    const std::string path =
        options_.out.empty() ? join_path(home_.layouts, inferred->layout.id + ".toml") : options_.out;
    const bool is_encrypted = learn_checksums(examples, *inferred);
    const std::string toml = to_toml(inferred->layout);
    auto written = disk_.create(path, {reinterpret_cast<const Byte*>(toml.data()), toml.size()});
    if (!written) {
      if (written.error().code == ErrorCode::unsafe)
        written.error().hint = "choose another --id or --out, or remove that file first";
      return tl::unexpected(std::move(written.error()));
    }
    show(*inferred, path, is_encrypted);
    return is_encrypted ? exit_problems : exit_done;
  }

 private:
  // Sums over the save that lie around it: the layout makes them anew. True where there is one that it can't
  // make, and would copy.
  bool learn_checksums(const std::vector<Example>& examples, Inferred& inferred) const {
    std::vector<Blob> files;
    std::vector<std::size_t> covered;
    std::vector<IntegrityField> own;  // over the save alone
    for (const Example& example : examples) {
      auto plain = unwrap(example.file);
      if (!plain || inferred.layout.slots.empty()) return false;
      const Layout::Place place = inferred.layout.place(inferred.layout.slots.front(), plain->plain.size());
      covered.push_back(place.at + place.size / 2);
      files.push_back(std::move(plain->plain));
      if (files.size() == 1) own = sums_around(files.front().view(), place);
      std::erase_if(own, [&](const IntegrityField& field) { return !is_right(field, files.back().view()); });
    }
    const auto changing = [&] {
      return std::ranges::any_of(inferred.layout.fields,
                                 [](const Field& field) { return field.unknown_bytes > 0; });
    };
    const bool was_changing = changing();
    bool is_any = false;
    std::vector<IntegrityField> found = find_integrity(files, covered);
    found.insert(found.end(), own.begin(), own.end());
    for (const IntegrityField& field : found) {
      const std::size_t end = field.at + width_of(field.kind);
      // One of so many sums of 16 bits is right by chance.
      if (width_of(field.kind) < 4 && files.size() < 2) continue;
      const bool is_in_save = std::ranges::any_of(inferred.layout.slots, [&](const Slot& slot) {
        const Layout::Place place = inferred.layout.place(slot, files.front().size());
        return field.at < place.at + place.size && place.at < end;
      });
      if (is_in_save || is_learned(inferred.layout, field, files.front().size())) continue;
      if (learn(inferred.layout, field, examples)) {
        inferred.certain.push_back(fmt::format(
            "bytes {} to {} are the {} of the bytes from {} to {}: it is made anew", field.at, end - 1,
            to_text(field.kind), field.from, files.front().size() - field.before_end - 1));
        continue;
      }
      is_any = true;
      inferred.open.push_back(fmt::format(
          "bytes {} to {} are a {} over the save: the layout copies them from the file that is replaced, so "
          "they are wrong for another save, and a program that checks them will refuse it",
          field.at, end - 1, to_text(field.kind)));
    }
    if (was_changing && !changing())  // what changed were the sums
      std::erase_if(inferred.open, [](const std::string& line) {
        return line.find(" change from example") != std::string::npos;
      });
    return is_any;
  }

  static bool is_learned(const Layout& layout, const IntegrityField& sum, std::size_t file_bytes) {
    return std::ranges::any_of(layout.fields, [&](const Field& field) {
      return field.checksum && layout.place(field, file_bytes).at < sum.at + width_of(sum.kind) &&
             sum.at < layout.place(field, file_bytes).at + field.size_bytes();
    });
  }

  // The sum as a field of the layout, in the place of what was a field there. Kept where every example comes
  // out as it was, byte for byte, from its save alone and the other bytes of its shell.
  static bool learn(Layout& layout, const IntegrityField& sum, const std::vector<Example>& examples) {
    const Slot* several = layout.variable_slot();
    const std::size_t behind = several != nullptr ? several->at + several->file_sizes.front() : 0;
    Layout with = layout;
    std::vector<Field> rest;
    Field own;
    own.checksum = sum;
    own.checksum->at = 0;
    const std::size_t file_bytes = examples.front().file.size();
    const std::size_t stretch =
        several != nullptr && std::ranges::binary_search(layout.file_sizes(), file_bytes)
            ? file_bytes - layout.file_sizes().front()
            : 0;
    own.after_variable = several != nullptr && sum.at >= behind + stretch;
    own.at = own.after_variable ? sum.at - behind - stretch : sum.at;
    const std::size_t end = own.at + own.size_bytes();
    for (const Field& field : layout.fields) {
      if (field.after_variable != own.after_variable || field.at >= end ||
          field.at + field.size_bytes() <= own.at) {
        rest.push_back(field);
        continue;
      }
      // What is left of it on both sides.
      const auto keep = [&](std::size_t from, std::size_t until) {
        if (from >= until) return;
        Field piece = field;
        piece.at = from;
        if (!field.bytes.empty())
          piece.bytes.assign(field.bytes.begin() + static_cast<std::ptrdiff_t>(from - field.at),
                             field.bytes.begin() + static_cast<std::ptrdiff_t>(until - field.at));
        else
          piece.unknown_bytes = until - from;
        rest.push_back(std::move(piece));
      };
      if (field.bytes.empty() && field.unknown_bytes == 0) return false;  // the part's size
      keep(field.at, own.at);
      keep(end, field.at + field.size_bytes());
    }
    rest.push_back(own);
    with.fields = std::move(rest);
    auto read = parse_layout(to_toml(with), with.id + ".toml");
    if (!read) return false;
    for (const Example& example : examples) {
      const auto plain = unwrap(example.file);
      const auto save = plain ? unpack(*read, plain->plain) : tl::unexpected(plain.error());
      if (!save) return false;
      std::vector<Byte> blank(plain->plain.view().begin(), plain->plain.view().end());
      const auto at = static_cast<std::ptrdiff_t>(sum.at);
      std::fill_n(blank.begin() + at, own.size_bytes(), Byte{0});
      const Blob shell = Blob::copy_of(blank);
      const auto again = pack(*read, *save, &shell);
      if (!again || *again != plain->plain) return false;
    }
    read->origin = layout.origin;
    layout = *std::move(read);
    return true;
  }

  // What is right before the save or after it, near by, as a sum over the save.
  static std::vector<IntegrityField> sums_around(ByteView file, const Layout::Place& place) {
    constexpr std::size_t near = 64;
    std::vector<IntegrityField> right;
    const std::size_t end = place.at + place.size;
    if (end > file.size()) return right;
    using Kind = IntegrityField::Kind;
    for (const Kind kind :
         {Kind::crc32, Kind::crc16, Kind::adler32, Kind::sum32, Kind::sum16, Kind::md5, Kind::sha1}) {
      const std::size_t width = width_of(kind);
      const auto try_at = [&](std::size_t at) {
        if (at + width > file.size() || is_uniform(file.subspan(at, width))) return;
        for (const bool big : {false, true}) {
          const IntegrityField field{kind, at, big, place.at, file.size() - end};
          if ((!big || width <= 4) && is_right(field, file)) right.push_back(field);
        }
      };
      for (std::size_t at = place.at > near ? place.at - near : 0; at + width <= place.at; ++at) try_at(at);
      for (std::size_t at = end; at + width <= std::min(file.size(), end + near); ++at) try_at(at);
    }
    return right;
  }

  // From --id, --rom, --from, or the first known file.
  Result<void> settle_platform() {
    if (!options_.id.empty()) {
      const auto known = platform_from_tag(options_.id.substr(0, options_.id.find('.')));
      if (!known)
        return fail(ErrorCode::bad_usage,
                    fmt::format("--id '{}' does not begin with a platform", printable(options_.id)),
                    "a layout's id is the platform's tag, a dot, and a name: e.g. --id gba.mine");
      hints_.platform = known;
    }
    BAYSWAP_TRY(Hints found, hints_for(globals_, options_.files.front(), options_.rom, {}));
    if (!found.game && options_.rom.empty()) {
      BAYSWAP_TRY(Hints other, hints_for(globals_, options_.files[1], "", {}));
      if (other.game) found = std::move(other);
    }
    if (hints_.platform) found.platform = hints_.platform;
    hints_ = std::move(found);
    hints_.extension.clear();
    return {};
  }

  Result<Save> read_known(const std::string& path) {
    BAYSWAP_TRY(const Blob bytes, disk_.read(path));
    if (!options_.from.empty()) {
      BAYSWAP_TRY(const Layout* from, layout_named(catalog_, options_.from));
      return opened(path, *from, bytes);
    }
    Hints hints = hints_;
    hints.extension = lower(extension_of(path));
    auto file = unwrap(bytes);
    if (!file)
      return fail(file.error().code, fmt::format("{}: {}", path, file.error().message), file.error().hint);
    const Recognition recognition = recognise(catalog_, file->plain, hints);
    const bool settled = hints.platform || hints.game;
    if (!recognition.matches.empty()) {
      const LayoutMatch& best = recognition.matches.front();
      bool one_platform = true;
      for (std::size_t i = 0; i < recognition.alike; ++i)
        one_platform = one_platform && recognition.matches[i].layout->platform == best.layout->platform;
      if (one_platform) return opened(path, *best.layout, bytes);
    }
    if (!settled)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{}: {} bytes could be of many platforms", path, bytes.size()),
                  "pass --id, e.g. --id gba.mine, or name the game's ROM with --rom");
    if (!std::has_single_bit(file->plain.size()))
      return fail(
          ErrorCode::not_recognised,
          fmt::format("{}: {} bytes is neither a form of {} that is known nor the size of any chip", path,
                      bytes.size(), tag(hints.platform ? *hints.platform : hints.game->platform)),
          "the first of a pair must be in a known form: name it with --from; or it was cut short");
    const Platform platform = hints.platform ? *hints.platform : hints.game->platform;
    used_.emplace_back("raw: the bytes of the chip and nothing else");
    return Save{saves_as(platform), {{{PartKind::sram, 0}, file->plain, true}}};
  }

  Result<Save> opened(const std::string& path, const Layout& layout, const Blob& bytes) {
    auto save = open_save(layout, bytes, hints_.chips);
    if (!save)
      return fail(save.error().code, fmt::format("{}: {}", path, save.error().message), save.error().hint);
    used_.push_back(layout.id);
    return std::move(save->save);
  }

  Result<std::string> id_for(Platform platform) {
    if (!options_.id.empty()) return options_.id;
    for (int number = 1; number < 1000; ++number) {
      std::string id =
          fmt::format("{}.learned{}", tag(saves_as(platform)), number == 1 ? "" : fmt::format("-{}", number));
      if (!catalog_.find(id)) return id;
    }
    return fail(ErrorCode::bad_usage, "there are too many learned layouts", "give this one a name with --id");
  }

  void show(const Inferred& inferred, const std::string& path, bool is_encrypted) const {
    if (globals_.json) {
      print_json({{"id", inferred.layout.id},
                  {"path", path},
                  {"known", used_},
                  {"certain", inferred.certain},
                  {"open", inferred.open},
                  {"guessed_bytes", inferred.guessed_bytes},
                  {"layout", to_toml(inferred.layout)}});
      return;
    }
    if (!globals_.quiet) {
      for (std::size_t i = 0; i < used_.size(); ++i)
        print_field(i == 0 ? "known" : "", fmt::format("{} as {}", options_.files[2 * i], used_[i]));
      for (std::size_t i = 0; i < inferred.certain.size(); ++i)
        print_field(i == 0 ? "certain" : "", inferred.certain[i], Tone::good);
      for (std::size_t i = 0; i < inferred.open.size(); ++i)
        print_field(i == 0 ? "open" : "", inferred.open[i], Tone::warn);
      print_field("wrote", path);
    }
    const bool at_home = options_.out.empty();
    if (is_encrypted) {
      say(globals_.quiet,
          "It reads such files; what it writes has a wrong checksum, which could not be learned.");
      return;
    }
    say(globals_.quiet,
        at_home
            ? fmt::format(
                  "`bayswap convert IN --to {} --out OUT` takes it at once; `bayswap layouts {}` draws it.",
                  inferred.layout.id, inferred.layout.id)
            : fmt::format("Put the file into {} and `bayswap convert IN --to {} --out OUT` takes it.",
                          home_.layouts, inferred.layout.id));
  }

  const Globals& globals_;
  const InferOptions& options_;
  Home home_;
  Catalog catalog_;
  LocalStore disk_;
  Hints hints_;
  std::vector<std::string> used_;
};

}  // namespace

int infer_command(const Globals& globals, const InferOptions& options) {
  return exit_code_of(Learning(globals, options).run());
}

}  // namespace bayswap::cli
