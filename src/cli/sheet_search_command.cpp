// A save without a sheet: values searched, checksums found, a sheet drafted.
#include <bayswap/sheet_draft.hpp>

#include <algorithm>
#include <charconv>

#include "base/path.hpp"
#include "base/text.hpp"
#include "base/toml_reader.hpp"
#include "base/try.hpp"
#include "cli/sheet_job.hpp"

namespace bayswap::cli {
namespace {

std::vector<std::string> split(const std::string& text) {
  std::vector<std::string> out;
  for (std::size_t at = 0; at <= text.size();) {
    const std::size_t end = std::min(text.find(',', at), text.size());
    out.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return out;
}

struct Search {
  const Globals& globals;
  const SheetOptions& options;
  SheetJob job{globals, options};
  std::vector<std::unique_ptr<FoundSavePlace>> places{};
  std::vector<Blob> versions{};
  std::string file{};  // which of a save's files

  // The same file of each of the saves.
  Result<void> open() {
    BAYSWAP_CHECK(job.start());
    for (const std::string& said : options.saves) {
      BAYSWAP_TRY(auto found, job.find(said));
      const std::vector<SheetFile>& files = found->place.files;
      const auto wanted =
          options.file.empty() ? files.begin() : std::ranges::find_if(files, [&](const SheetFile& one) {
            return file_fits(options.file, one.name);
          });
      if (wanted == files.end()) {
        std::vector<std::string> names;
        names.reserve(files.size());
        for (const SheetFile& one : files) names.push_back(one.name);
        return fail(ErrorCode::not_found, fmt::format("{} has no file {}", said, printable(options.file)),
                    "it has " + joined(names, ", "));
      }
      // Of several files the one that changes is meant, where no other does.
      versions.push_back(wanted->bytes);
      file = wanted->name;
      places.push_back(std::move(found));
    }
    if (options.file.empty() && places.front()->place.files.size() > 1) return choose_file();
    return {};
  }

  Result<void> choose_file() {
    std::vector<std::string> changing;
    for (const SheetFile& one : places.front()->place.files) {
      std::vector<Blob> same;
      for (const auto& place : places)
        for (const SheetFile& other : place->place.files)
          if (other.name == one.name) same.push_back(other.bytes);
      if (same.size() != places.size() ||
          std::ranges::adjacent_find(same, std::not_equal_to<>{}) == same.end())
        continue;
      changing.push_back(one.name);
      versions = std::move(same);
      file = one.name;
    }
    if (changing.size() > 1)
      return fail(ErrorCode::bad_usage,
                  fmt::format("{} change: {}", counted(changing.size(), "file"), joined(changing, ", ")),
                  "pass --file NAME");
    return {};
  }

  Result<ValueRequest> request() const {
    ValueRequest request;
    if (!options.value.empty()) request.values = split(options.value);
    if (!options.between.empty())
      for (const std::string& word : split(options.between)) {
        const std::size_t dots = word.find("..");
        std::int64_t low = 0;
        std::int64_t high = 0;
        const auto number = [&](std::string_view text, std::int64_t& out) {
          return std::from_chars(text.data(), text.data() + text.size(), out) ==
                 std::from_chars_result{text.data() + text.size(), std::errc{}};
        };
        if (dots == std::string::npos || !number(std::string_view(word).substr(0, dots), low) ||
            !number(std::string_view(word).substr(dots + 2), high) || low > high)
          return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a range", printable(word)),
                      "write the least and the largest: 100..120, one for each save, with commas");
        request.between.emplace_back(low, high);
      }
    // One range for all saves, or one each.
    if (request.between.size() == 1 && versions.size() > 1)
      request.between.assign(versions.size(), request.between.front());
    if (!options.trend.empty())
      for (const std::string& word : split(options.trend)) {
        static const std::vector<std::pair<std::string, Trend>> words{{"changed", Trend::changed},
                                                                      {"same", Trend::same},
                                                                      {"more", Trend::more},
                                                                      {"less", Trend::less},
                                                                      {"any", Trend::any}};
        const auto known = std::ranges::find(words, word, [](const auto& one) { return one.first; });
        if (known == words.end())
          return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a trend", printable(word)),
                      "use changed, same, more, less or any");
        request.trends.push_back(known->second);
      }
    if (request.trends.size() == 1 && versions.size() > 2)
      request.trends.assign(versions.size() - 1, request.trends.front());
    return request;
  }

  static Json find_json(const ValueFind& find) {
    static constexpr std::array<std::string_view, 4> kinds{"number", "bcd", "digits", "text"};
    return {{"offset", find.offset},
            {"bit", find.bit},
            {"bits", find.bits},
            {"encoding", find.encoding},
            {"confidence", find.confidence},
            {"kind", kinds.at(static_cast<std::size_t>(find.kind))},
            {"order", find.big_endian ? "big" : "little"},
            {"signed", find.is_signed},
            {"times", find.times},
            {"plus", find.plus},
            {"per", find.per},
            {"xor", find.xor_with},
            {"expected_false", find.expected_false}};
  }

  static std::string percent(double confidence) {
    return confidence > 0.9999 ? "certain"
                               : fmt::format("{:.{}f} %", 100 * confidence, confidence < 0.1 ? 2 : 1);
  }

  Result<int> searched_value() {
    BAYSWAP_CHECK(open());
    BAYSWAP_TRY(const ValueRequest wanted, request());
    BAYSWAP_TRY(const auto finds, find_values(versions, wanted));
    if (globals.json) {
      Json list = Json::array();
      for (const ValueFind& find : finds) list.push_back(find_json(find));
      print_json({{"saves", options.saves}, {"file", file}, {"finds", list}});
      return finds.empty() ? exit_problems : exit_done;
    }
    if (finds.empty()) {
      fmt::print("Nothing in {} agrees with that.\n", printable(file));
      say(globals.quiet,
          "Check the values and their order; a value can be rounded where the game shows it: try --between.");
      return exit_problems;
    }
    std::vector<std::vector<std::string>> rows;
    for (const ValueFind& find : finds)
      rows.push_back({fmt::format("{:X}", find.offset), percent(find.confidence), printable(find.encoding)});
    print_table({"offset", "confidence", "how it is stored"}, rows, {0, 1});
    if (finds.front().confidence < 0.99)
      say(globals.quiet, "A further save with another value would narrow it down.");
    return exit_done;
  }

  static Json checksum_json(const ChecksumFind& find) {
    const Checksum& checksum = find.checksum;
    static constexpr std::array<std::string_view, 6> kinds{"sum", "xor", "crc", "adler32", "md5", "sha1"};
    const ChecksumForm& form = checksum.form;
    Json parameters = {{"order", checksum.big_endian ? "big" : "little"}};
    if (form.kind == ChecksumForm::Kind::crc) {
      parameters["polynomial"] = form.crc.polynomial;
      parameters["start"] = form.crc.start;
      parameters["end"] = form.crc.end;
      parameters["reflected"] = form.crc.reflected;
    } else if (form.kind == ChecksumForm::Kind::sum || form.kind == ChecksumForm::Kind::exclusive_or) {
      parameters["unit"] = form.unit_bytes;
      parameters["unit_order"] = form.unit_big_endian ? "big" : "little";
      parameters["start"] = form.start;
    }
    parameters["complement"] = form.complemented;
    parameters["negate"] = form.negated;
    return {{"kind", kinds.at(static_cast<std::size_t>(form.kind))},
            {"offset", checksum.at},
            {"bits", 8 * size_of(form)},
            {"from", checksum.ranges.front().from},
            {"to", checksum.ranges.front().to},
            {"parameters", parameters},
            {"confidence", find.confidence},
            {"expected_false", find.expected_false},
            {"pair", find.pairs_with},
            {"about", to_text(form)}};
  }

  Result<int> find_checksum() {
    BAYSWAP_CHECK(open());
    BAYSWAP_TRY(const ChecksumSearch search, find_checksums(versions));
    if (globals.json) {
      const auto list = [](const std::vector<ChecksumFind>& finds) {
        Json out = Json::array();
        for (const ChecksumFind& find : finds) out.push_back(checksum_json(find));
        return out;
      };
      Json copies = Json::array();
      for (const CopyFind& copy : search.copies)
        copies.push_back({{"first", copy.first},
                          {"second", copy.second},
                          {"size_bytes", copy.size_bytes},
                          {"changed_bytes", copy.changed_bytes}});
      Json counters = Json::array();
      for (const CounterFind& counter : search.counters)
        counters.push_back({{"offset", counter.at},
                            {"bits", counter.bits},
                            {"order", counter.big_endian ? "big" : "little"},
                            {"step", counter.step},
                            {"confidence", counter.confidence}});
      print_json({{"saves", options.saves},
                  {"file", file},
                  {"changed_bytes", search.changed_bytes},
                  {"checksums", list(search.checksums)},
                  {"doubtful", list(search.doubtful)},
                  {"copies", copies},
                  {"counters", counters},
                  {"left_out", search.left_out}});
      return exit_done;
    }
    fmt::print("{} of {} change between {} versions.\n", counted(search.changed_bytes, "byte"),
               versions.front().size(), versions.size());
    print_checksums("checksum", search.checksums);
    if (search.checksums.empty()) fmt::print("No checksum is certain.\n");
    if (!search.doubtful.empty()) {
      fmt::print("\n{}\n",
                 toned(Tone::dim, versions.size() < 3
                                      ? "Doubtful: chance gives such ones too. A third version would tell."
                                      : "Doubtful: chance gives such ones too."));
      print_checksums("doubtful",
                      {search.doubtful.begin(),
                       search.doubtful.begin() +
                           static_cast<std::ptrdiff_t>(std::min<std::size_t>(5, search.doubtful.size()))});
    }
    for (const CopyFind& copy : search.copies)
      fmt::print("copy      {:X} and {:X}: the same {}\n", copy.first, copy.second,
                 counted(copy.size_bytes, "byte"));
    for (const CounterFind& counter : search.counters)
      if (counter.confidence > 0.5)
        fmt::print("counter   {:X}: {} bits{}, {} more each time\n", counter.at, counter.bits,
                   counter.big_endian ? ", big-endian" : "", counter.step);
    for (const std::string& what : search.left_out)
      say(globals.quiet, "Not searched, it would take too long: " + what + ".");
    return exit_done;
  }

  static void print_checksums(const std::string& word, const std::vector<ChecksumFind>& finds) {
    std::vector<std::vector<std::string>> rows;
    for (const ChecksumFind& find : finds) {
      const Checksum& checksum = find.checksum;
      rows.push_back(
          {fmt::format("{:X}", checksum.at), fmt::format("{:X}", checksum.ranges.front().from),
           fmt::format("{:X}", checksum.ranges.front().to), percent(find.confidence),
           fmt::format("{:.1g}", find.expected_false),
           fmt::format("{}{}", to_text(checksum.form),
                       size_of(checksum.form) > 1 && checksum.big_endian ? ", stored big-endian" : "")});
    }
    if (!rows.empty())
      print_table({word + " at", "from", "to", "confidence", "false by chance", "what it is"}, rows,
                  {0, 1, 2, 3, 4});
  }

  Result<int> draft() {
    BAYSWAP_CHECK(open());
    std::optional<ValueFind> value;
    const std::string name = options.name.empty() ? "value" : options.name;
    if (!options.value.empty() || !options.between.empty() || !options.trend.empty()) {
      BAYSWAP_TRY(const ValueRequest wanted, request());
      BAYSWAP_TRY(const auto finds, find_values(versions, wanted));
      if (finds.empty())
        return fail(ErrorCode::not_found, "nothing agrees with these values", "check them, and their order");
      if (finds.size() > 1 && finds[1].confidence > 0.5)
        say(globals.quiet, fmt::format("bayswap: warning: {} places agree; the first, {:X}, is taken",
                                       finds.size(), finds.front().offset));
      value = finds.front();
    }
    std::string text;
    LocalStore disk;
    if (!options.sheet.empty()) {
      BAYSWAP_TRY(const Blob old, disk.read(options.sheet, max_sheet_size_bytes));
      if (!value)
        return fail(ErrorCode::bad_usage, "nothing to add to the sheet", "pass what to search for: --value");
      BAYSWAP_TRY(text, with_field({reinterpret_cast<const char*>(old.data()), old.size()}, options.sheet,
                                   name, *value));
    } else {
      SheetDraft draft;
      const auto& game = places.front()->place.game;
      if (!game && options.platform.empty())
        return fail(ErrorCode::bad_usage, "the save's platform is unknown",
                    "pass --platform, e.g. --platform gba, or its ROM with --rom");
      if (game) draft.game = *game;
      if (!options.platform.empty()) {
        const auto platform = platform_from_tag(options.platform);
        if (!platform)
          return fail(ErrorCode::bad_usage, fmt::format("unknown platform {}", printable(options.platform)),
                      "use a tag: gba, snes, ...");
        draft.game.platform = *platform;
      }
      draft.name = draft.game.title.empty() ? fmt::format("draft of {}", stem_of(places.front()->place.path))
                                            : draft.game.title;
      draft.id = options.id.empty() ? default_id(draft) : options.id;
      draft.size_bytes = versions.front().size();
      draft.mark = common_mark(versions);
      if (value) draft.fields.emplace_back(name, *value);
      if (versions.size() > 1) {
        BAYSWAP_TRY(ChecksumSearch search, find_checksums(versions));
        draft.checksums = std::move(search.checksums);
        draft.copies = std::move(search.copies);
      }
      BAYSWAP_TRY(text, draft_sheet(draft));
    }
    if (options.out.empty()) {
      fmt::print("{}", text);
      return exit_done;
    }
    BAYSWAP_TRY(const auto before, disk.read_if_there(options.out));
    if (before && options.out != options.sheet)
      return fail(ErrorCode::unsafe,
                  fmt::format("{} exists already; nothing was written", printable(options.out)),
                  "name another file");
    Plan plan;
    plan.kind = EntryKind::edit;
    plan.reason = fmt::format("draft the sheet {}", options.out);
    plan.changes.push_back(
        {options.out, before, Blob::copy_of({reinterpret_cast<const Byte*>(text.data()), text.size()})});
    BAYSWAP_CHECK(run_here(globals, plan, disk));
    if (globals.json)
      print_json({{"out", options.out}, {"found", value ? find_json(*value) : Json(nullptr)}});
    else
      say(globals.quiet, fmt::format("Wrote {}. `bayswap sheet show {} --sheet {}` shows what it says.",
                                     options.out, options.saves.front(), options.out));
    return exit_done;
  }

  [[nodiscard]] std::string default_id(const SheetDraft& draft) const {
    std::string id = std::string(tag(draft.game.platform)) + ".";
    const std::string word =
        draft.game.title.empty() ? std::string(stem_of(places.front()->place.path)) : draft.name;
    for (const char c : lower(word)) id += (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9') ? c : '-';
    while (id.ends_with('-')) id.pop_back();
    return id.ends_with('.') ? id + "game" : id;
  }
};

}  // namespace

int sheet_find_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Search{globals, options}.searched_value());
}
int sheet_checksum_command(const Globals& globals, const SheetOptions& options) {
  return finished_sheet(Search{globals, options}.find_checksum());
}
int sheet_draft_command(const Globals& globals, const SheetOptions& options) {
  SheetOptions own = options;
  own.uses_sheet = false;
  return finished_sheet(Search{globals, own}.draft());
}

}  // namespace bayswap::cli
