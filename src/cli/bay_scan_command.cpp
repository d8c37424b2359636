#include <bayswap/bay_saves.hpp>

#include <algorithm>

#include "base/endian.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "cli/commands.hpp"
#include "cli/output.hpp"
#include "cli/session.hpp"
#include "fs/path.hpp"

namespace bayswap::cli {
namespace {

constexpr double alike_enough = 0.6;

// A save whose name says nothing: which one of the other bays is it most like? True where there was one such.
bool find_resemblances(const Home& home, const Catalog& catalog, const Bay& bay, Store& store,
                       const TitleBook& titles, std::vector<BaySave>& saves) {
  const auto is_nameless = [](const BaySave& save) {
    return save.label.empty() && save.facts.game.title.empty() && save.kind == "folder";
  };
  if (std::ranges::none_of(saves, is_nameless)) return false;
  const auto bays = list_bays(home);
  if (!bays) return true;
  struct Known {
    std::string name;
    std::vector<TreeFile> files;
    Platform platform;
  };
  std::vector<Known> known;
  for (const auto& [name, other] : *bays) {
    if (!other || other->origin == bay.origin) continue;
    LocalStore there(other->root);
    ScanWish wish;
    wish.titles = &titles;
    const auto found = scan_bay(catalog, *other, there, wish);
    if (!found) continue;
    for (const BaySave& save : *found) {
      if (save.label.empty() || save.kind != "folder") continue;
      if (auto files = read_tree(there, save.path))
        known.push_back({fmt::format("{} ({})", save.label, name), *std::move(files), save.rule->platform});
    }
  }
  for (BaySave& save : saves) {
    if (!is_nameless(save)) continue;
    const auto files = read_tree(store, save.path);
    double best = alike_enough;
    for (const Known& one : known) {
      if (!files || one.platform != save.rule->platform) continue;
      const Likeness how = likeness(*files, one.files);
      if (how.score < best) continue;
      best = how.score;
      save.resembles = one.name;
    }
  }
  return true;
}

bool has_slots(const PlatformRule& rule) {
  return rule.path.uses("slot") || rule.path.uses("slot.8") || rule.path.uses("slot.letter");
}

Json to_json(const BaySave& save) {
  return {{"platform", tag(save.rule->platform)},
          {"game", cli::to_json(save.facts.game)},
          {"label", save.label},
          {"kind", save.kind},
          {"place", save.place},
          {"slot", has_slots(*save.rule) ? Json(save.facts.slot) : Json(nullptr)},
          {"account", save.facts.account},
          {"path", save.path},
          {"entry", save.entry},
          {"name", save.name()},
          {"files", save.files},
          {"size_bytes", save.size_bytes},
          {"modified", save.modified ? Json(utc_time(*save.modified)) : Json(nullptr)},
          {"health", save.health},
          {"health_note", save.health_note},
          {"thumbnail", save.thumbnail},
          {"resembles", save.resembles}};
}

std::vector<std::string> row_of(const BaySave& save) {
  const GameId& game = save.facts.game;
  const std::string id = game.code.empty() ? title_id_text(game) : game.code;
  std::string label = save.label;
  if (!save.place.empty()) label += fmt::format(" [{}]", save.place);
  if (!save.resembles.empty()) label = fmt::format("like {}", save.resembles);
  return {std::string(tag(save.rule->platform)),
          printable(label),
          printable(id),
          game.region == Region::unknown ? "" : std::string(name(game.region)),
          has_slots(*save.rule) && save.place.empty() ? std::to_string(save.facts.slot) : "",
          std::to_string(save.size_bytes),
          save.modified ? local_time(*save.modified) : "",
          save.health,
          printable(save.rule->keeping == Keeping::card ? fmt::format("{}: {}", save.path, save.entry)
                                                        : save.path)};
}

// What a scan printed, kept with what it had looked at: where all of that is still the same, so is the
// answer.
class LastScan {
 public:
  LastScan(const Globals& globals, const Home& home, const Bay& bay, const std::string& titles)
      : path_(tidied(
            join_path(home.data, fmt::format("../scans/{}.{}", bay.name, globals.json ? "json" : "table")))) {
    std::string words = fmt::format("{}\n{}\n{}\n{}\n{}\n", version(), local_time(0), toned(Tone::bold, "x"),
                                    bay.root, titles);
    words += to_toml(bay);
    if (const auto layouts = disk_.list(home.layouts))
      for (const FileInfo& file : *layouts)
        words += fmt::format("{} {} {}\n", file.name, file.modified, file.size_bytes);
    key_ = sha256({reinterpret_cast<const Byte*>(words.data()), words.size()}).hex();
  }

  /// The text to print again.
  [[nodiscard]] std::optional<std::string> still_right(Store& store) {
    const auto file = disk_.read(path_);
    if (!file || file->size() < key_.size() + 64 + 8) return std::nullopt;
    const std::string_view all(reinterpret_cast<const char*>(file->data()), file->size());
    const std::string_view rest = all.substr(64);
    if (!rest.starts_with(key_)) return std::nullopt;
    const std::size_t size = le64(file->view(), 64 + key_.size());
    const std::size_t text_at = key_.size() + 8;
    if (rest.size() - text_at < size || sha256(file->view().subspan(64)).hex() != all.substr(0, 64))
      return std::nullopt;
    if (!WatchedStore::is_as_then(store, rest.substr(text_at + size))) return std::nullopt;
    return std::string(rest.substr(text_at, size));
  }

  void keep(const std::string& text, const std::string& trace) {
    std::string rest = key_;
    for (int i = 0; i < 8; ++i) rest += static_cast<char>(text.size() >> (8 * i));
    rest += text + trace;
    const std::string all = sha256({reinterpret_cast<const Byte*>(rest.data()), rest.size()}).hex() + rest;
    // A home folder that can't be written only makes the next scan slower.
    (void)disk_.replace(path_, {reinterpret_cast<const Byte*>(all.data()), all.size()});
  }

 private:
  LocalStore disk_;
  std::string path_;
  std::string key_;
};

std::string in_words(const std::vector<BaySave>& saves, const Bay& bay) {
  if (saves.empty())
    return fmt::format("No save was found in {}. `bayswap bay show {}` says where it looks.\n", bay.root,
                       bay.name);
  std::vector<std::vector<std::string>> rows;
  rows.reserve(saves.size());
  for (const BaySave& save : saves) rows.push_back(row_of(save));
  std::string text = table_text(
      {"for", "save", "id", "region", "slot", "bytes", "changed", "health", "on the disk"}, rows, {4, 5});
  const std::vector<std::string> accounts = accounts_of(saves);
  if (!accounts.empty()) text += fmt::format("\nAccounts here: {}\n", fmt::join(accounts, ", "));
  return text;
}

std::string as_json(const std::vector<BaySave>& saves, const Bay& bay, const std::vector<Error>& unread) {
  Json list = Json::array();
  for (const BaySave& save : saves) list.push_back(to_json(save));
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
  LocalStore local(bay.root);
  LastScan last(globals, home, bay, titles.to_toml());
  if (const auto text = last.still_right(local)) {
    fmt::print("{}", *text);
    return exit_done;
  }
  WatchedStore store(local);
  BAYSWAP_CHECK(store.list("."));
  BAYSWAP_TRY(const Catalog catalog, load_catalog(home));
  LocalStore disk;
  const std::string memory_path = tidied(join_path(home.data, fmt::format("../scans/{}.scan", bay.name)));
  ScanMemory memory = ScanMemory::load(disk, memory_path);
  ScanWish wish;
  wish.titles = &titles;
  wish.memory = &memory;
  std::vector<Error> unread;
  wish.on_error = [&](const std::string& /*path*/, const Error& error) { unread.push_back(error); };
  BAYSWAP_TRY(auto saves, scan_bay(catalog, bay, store, wish));
  const bool looked_elsewhere = find_resemblances(home, catalog, bay, local, titles, saves);
  if (memory.changed()) (void)memory.save(disk, memory_path);
  const std::string text = globals.json ? as_json(saves, bay, unread) : in_words(saves, bay);
  fmt::print("{}", text);
  for (const Error& error : unread)
    say(globals.quiet, fmt::format("bayswap: passed over: {}", error.message));
  if (!looked_elsewhere && unread.empty()) last.keep(text, store.trace());
  return exit_done;
}

}  // namespace

int bay_scan_command(const Globals& globals, const std::string& name) {
  const auto code = scan(globals, name);
  return code ? *code : report(code.error());
}

}  // namespace bayswap::cli
