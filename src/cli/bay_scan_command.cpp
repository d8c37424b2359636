#include <bayswap/bay_view.hpp>

#include <algorithm>
#include <utility>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/books.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

// What was looked at below a folder, as a TracingStore noted it.
struct Watched {
  std::string root;
  std::string trace;
};

// Looks at the other bays only if something here is nameless. Notes what it looked at.
void compare_with_others(const Books& books, BayView& view, std::vector<HeldSave>& saves,
                         std::vector<Watched>& watched) {
  if (std::ranges::none_of(saves, is_nameless)) return;
  const auto bays = list_bays(books.home);
  if (!bays) return;
  struct Other {
    std::unique_ptr<Store> store;
    std::unique_ptr<TracingStore> traced;
    std::unique_ptr<BayView> view;
  };
  std::vector<Other> others;
  std::vector<BayView*> views;
  for (const auto& [name, bay] : *bays) {
    if (!bay || bay->origin == view.bay().origin) continue;
    Other other;
    other.store = std::make_unique<LocalStore>(bay->root);
    other.traced = std::make_unique<TracingStore>(*other.store);
    other.view = std::make_unique<BayView>(books.catalog, *bay, *other.traced, books.view_options());
    views.push_back(other.view.get());
    others.push_back(std::move(other));
  }
  find_resemblances(view, saves, views);
  for (const Other& other : others) watched.push_back({other.view->bay().root, other.traced->trace()});
}

bool has_slots(const PlatformRule& rule) {
  return rule.path.uses_slot();
}

Json to_json(const HeldSave& save) {
  return {{"platform", tag(save.rule->platform)},
          {"game", cli::to_json(save.facts.game)},
          {"label", save.label},
          {"kind", to_text(save.kind)},
          {"place", save.place},
          {"slot", has_slots(*save.rule) ? Json(save.facts.slot) : Json(nullptr)},
          {"account", save.facts.account},
          {"path", save.path},
          {"entry", save.entry},
          {"name", save.name()},
          {"files", save.files},
          {"size_bytes", save.size_bytes},
          {"modified", save.modified ? Json(utc_time(*save.modified)) : Json(nullptr)},
          {"health", to_text(save.health)},
          {"health_note", save.health_note},
          {"misplaced", save.misplaced},
          {"thumbnail", save.thumbnail},
          {"resembles", save.resembles}};
}

std::vector<std::string> row_of(const HeldSave& save) {
  const GameId& game = save.facts.game;
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  std::string label = save.label;
  if (!save.place.empty()) label += fmt::format("{}[{}]", label.empty() ? "" : " ", save.place);
  if (!save.resembles.empty()) label = fmt::format("like {}", save.resembles);
  return {std::string(tag(save.rule->platform)),
          printable(label),
          printable(id),
          game.region == Region::unknown ? "" : std::string(name(game.region)),
          has_slots(*save.rule) && save.place.empty() ? std::to_string(save.facts.slot) : "",
          std::to_string(save.size_bytes),
          save.modified ? local_time(*save.modified) : "",
          save.misplaced.empty() ? std::string(to_text(save.health)) : "misplaced",
          printable(save.rule->keeping == Keeping::card ? fmt::format("{}: {}", save.path, save.entry)
                                                        : save.path)};
}

// What a scan printed, kept with what it had looked at: where all of that is still the same, so is the
// answer.
class LastScan {
 public:
  LastScan(const Globals& globals, const Home& home, const Bay& bay, const std::string& titles)
      : path_(normalized(
            join_path(home.data, fmt::format("../scans/{}.{}", bay.name, globals.json ? "json" : "table")))) {
    std::string words = fmt::format("{}\n{}\n{}\n{}\n{}\n{}\n", version(), local_time(0),
                                    toned(Tone::bold, "x"), table_width(), bay.root, titles);
    words += to_toml(bay);
    for (const std::string& folder : {home.layouts, home.bays})
      if (const auto files = disk_.list(folder))
        for (const FileInfo& file : *files)
          words += fmt::format("{} {}.{} {}\n", file.name, file.modified, file.modified_ns, file.size_bytes);
    key_ = sha256({reinterpret_cast<const Byte*>(words.data()), words.size()}).hex();
  }

  /// The text to print again.
  [[nodiscard]] std::optional<std::string> still_right() {
    const auto file = disk_.read(path_);
    if (!file || file->size() < digest_digits) return std::nullopt;
    std::string_view rest(reinterpret_cast<const char*>(file->data()), file->size());
    const std::string_view digest = rest.substr(0, digest_digits);
    rest.remove_prefix(digest_digits);
    if (sha256(file->view().subspan(digest_digits)).hex() != digest || take(rest) != key_)
      return std::nullopt;
    std::string text(take(rest));
    while (!rest.empty()) {
      LocalStore store{std::string(take(rest))};
      if (!TracingStore::is_as_then(store, take(rest))) return std::nullopt;
    }
    return text;
  }

  void keep(const std::string& text, const std::vector<Watched>& watched) {
    std::string rest;
    put(rest, key_);
    put(rest, text);
    for (const Watched& one : watched) {
      put(rest, one.root);
      put(rest, one.trace);
    }
    const std::string all = sha256({reinterpret_cast<const Byte*>(rest.data()), rest.size()}).hex() + rest;
    // A home folder that can't be written only makes the next scan slower.
    (void)disk_.replace(path_, {reinterpret_cast<const Byte*>(all.data()), all.size()});
  }

 private:
  static constexpr std::size_t digest_digits = 64;
  static constexpr std::size_t size_bytes = 8;  // in front of each text

  static void put(std::string& out, std::string_view text) {
    for (std::size_t i = 0; i < size_bytes; ++i) out += static_cast<char>(text.size() >> (8 * i));
    out += text;
  }
  static std::string_view take(std::string_view& rest) {
    if (rest.size() < size_bytes) return std::exchange(rest, {});
    const std::size_t size = le64({reinterpret_cast<const Byte*>(rest.data()), size_bytes}, 0);
    const std::string_view text = rest.substr(size_bytes, size);
    rest.remove_prefix(size_bytes + text.size());
    return text;
  }

  LocalStore disk_;
  std::string path_;
  std::string key_;
};

std::string in_words(const std::vector<HeldSave>& saves, const Bay& bay) {
  if (saves.empty())
    return fmt::format("No save was found in {}. `bayswap bay show {}` says where it looks.\n", bay.root,
                       bay.name);
  std::vector<std::vector<std::string>> rows;
  rows.reserve(saves.size());
  for (const HeldSave& save : saves) rows.push_back(row_of(save));
  std::string text = table_text(
      {"for", "save", "id", "region", "slot", "bytes", "changed", "health", "on the disk"}, rows, {4, 5});
  const std::vector<std::string> accounts = accounts_of(saves);
  if (!accounts.empty()) text += fmt::format("\nAccounts here: {}\n", joined(accounts, ", "));
  return text;
}

std::string as_json(const std::vector<HeldSave>& saves, const Bay& bay, const std::vector<Error>& unread) {
  Json list = Json::array();
  for (const HeldSave& save : saves) list.push_back(to_json(save));
  Json errors = Json::array();
  for (const Error& error : unread) errors.push_back(cli::to_json(error));
  return json_text({{"bay", bay.name},
                    {"root", bay.root},
                    {"accounts", accounts_of(saves)},
                    {"saves", std::move(list)},
                    {"unreadable", std::move(errors)}});
}

Result<int> scan(const Globals& globals, const std::string& name) {
  BAYSWAP_TRY(const Home home, home_of(globals));
  BAYSWAP_TRY(const Bay bay, find_bay(home, name));
  BAYSWAP_TRY(const TitleBook titles, TitleBook::load(home));
  BAYSWAP_TRY(const PairBook pairs, PairBook::load(home));
  BAYSWAP_TRY(const auto place, open_place(bay));
  LastScan last(globals, home, bay, titles.to_toml() + pairs.to_toml());
  if (const auto text = last.still_right()) {
    fmt::print("{}", *text);
    return exit_done;
  }
  BAYSWAP_TRY(const auto books, Books::load(globals));
  TracingStore store(*place);
  BAYSWAP_CHECK(store.list("."));
  LocalStore disk;
  const std::string memory_path = normalized(join_path(home.data, fmt::format("../scans/{}.scan", bay.name)));
  ScanMemory memory = ScanMemory::load(disk, memory_path);
  std::vector<Error> unread;
  ViewOptions options = books->view_options();
  options.memory = &memory;
  options.on_error = [&](const std::string& /*path*/, const Error& error) { unread.push_back(error); };
  BayView view(books->catalog, bay, store, options);
  BAYSWAP_TRY(const auto found, view.saves());
  std::vector<HeldSave> saves = *found;
  std::vector<Watched> watched;
  compare_with_others(*books, view, saves, watched);
  if (memory.changed()) (void)memory.save(disk, memory_path);
  const std::string text = globals.json ? as_json(saves, bay, unread) : in_words(saves, bay);
  fmt::print("{}", text);
  for (const Error& error : unread)
    say(globals.quiet, fmt::format("bayswap: passed over: {}", error.message));
  watched.push_back({bay.root, store.trace()});
  if (unread.empty()) last.keep(text, watched);
  return exit_done;
}

}  // namespace

int bay_scan_command(const Globals& globals, const std::string& name) {
  const auto code = scan(globals, name);
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
