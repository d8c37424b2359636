#include "cli/help.hpp"

#include <fmt/format.h>
#include <bayswap/card.hpp>
#include <bayswap/carry.hpp>

#include <algorithm>
#include <array>

#include "base/text.hpp"

namespace bayswap::cli {
namespace {

struct Topic {
  std::string_view name;
  std::string_view text;
};
constexpr std::array<Topic, 6> topics{{
    {"places",
     "Where a command takes a place (--from, --to), it takes:\n\n"
     "  tv                      a bay, by its name: `bayswap bay list`\n"
     "  bays/tv.toml            a bay, by its file\n"
     "  /media/stick            a folder; it is looked at for this once, as `bayswap bay look` does\n"
     "  download.zip            an archive, to carry from\n"
     "  cards/mine.mcr          a memory card's image\n"
     "  saves/Cog.srm           a save; the place around it is looked at\n"
     "  cart:/dev/ttyACM0       the cartridge in a reader\n"
     "  https://nas.local/dav/  a folder on a server (also sftp, ftps, s3+https)\n"
     "  desk/cog.sav            with --to, a file that does not exist yet: the save alone, in the form it "
     "has\n"},
    {"saves",
     "Where a command takes a save, it takes:\n\n"
     "  'Lantern Skiff'         a title, or the beginning of one\n"
     "  N99P                    a product code\n"
     "  00040000/0ff99200       a title id\n"
     "  roms/Skiff.z64          the game's ROM\n"
     "  saves/Skiff.srm         the save's own path\n"
     "  'cards/mine.mcr: NAME'  an entry of a memory card\n"
     "  tv:Skiff                the save of a place, and of no other: a bay, a folder, a card, an archive\n"
     "  Skiff@12                as entry 12 of the logbook left it; Skiff@1f0a93c2 as that version of sync "
     "had it\n"},
    {"json",
     "With --json a command prints one JSON document on stdout, whatever happens. If it failed, the document "
     "has\n"
     "\"error\": {\"code\", \"message\", \"remedy\"}. Messages and progress go to stderr. docs/schema has a "
     "schema for\n"
     "each command. `sync --watch --json` prints a line for each event instead, as it has no end.\n"},
    {"exit-codes",
     "  0    done\n"
     "  1    done, and problems were found\n"
     "  2    invalid arguments: an unknown option, a bay that does not exist\n"
     "  3    refused, as a save could be lost: pass --accept ISSUE, --yes or --replace, or do what the "
     "message says\n"
     "  4    not found, not recognised, damaged, or no room\n"
     "  5    a disk or a network reported an error\n"
     "  130  interrupted by Ctrl-C; every file is the old or the new one, whole\n"},
    {"environment",
     "  BAYSWAP_HOME            folder of bays, layouts and the logbook (as --home)\n"
     "  XDG_CONFIG_HOME, XDG_DATA_HOME\n"
     "                          where they are otherwise\n"
     "  BAYSWAP_USER, BAYSWAP_PASSWORD, NETRC\n"
     "                          who asks on servers; ~/.netrc if they are not set\n"
     "  BAYSWAP_HOST            the server that the password is for; else the first that is asked\n"
     "  BAYSWAP_OPEN_PASSWORD=1 a password may go over plain FTP or HTTP\n"
     "  BAYSWAP_PASSPHRASE, BAYSWAP_NEW_PASSPHRASE\n"
     "                          of an encrypted sync folder, for scripts\n"
     "  SSL_CERT_FILE           the authority that vouches for servers\n"
     "  BAYSWAP_NOW             seconds since 1970 that the logbook takes for the time; for tests\n"
     "  EDITOR, VISUAL          for `bay edit`\n"
     "  NO_COLOR, TERM=dumb     no colours\n"
     "  TZ, LANG                times and languages as elsewhere\n"},
    {"regions",
     "  japan (jp), north-america (us, usa), europe (eu, pal), korea (kr), china (cn), germany (de), france "
     "(fr),\n"
     "  italy (it), spain (es), netherlands (nl), scandinavia, australia (au), brazil (br), canada (ca), "
     "asia, world\n"},
}};

// What going on in spite of it can cost.
constexpr std::array<std::pair<std::string_view, std::string_view>, 11> acceptable{{
    {"wrong-region", "the save is of another region's game, which may refuse it"},
    {"wrong-game", "the save does not seem to be of this game"},
    {"odd-target", "what is in the target's place does not look like a save of that kind"},
    {"unwritten", "the save's bytes look like memory that was never written"},
    {"short", "the file ends early; what is missing is taken as blank"},
    {"damaged", "a checksum is wrong, or a part can't be read"},
    {"cut", "bytes that are not blank have no place at the target, and are left out"},
    {"newer", "the target's save is newer, and is replaced; undo brings it back"},
    {"byte-order", "the bytes look as if their order were another one"},
    {"no-rom", "no ROM says which game and which chip it is"},
    {"part", "only a part of the save can be carried, for example without its clock"},
}};

std::string accept_topic() {
  std::string text = "--accept ISSUE goes on in spite of an issue. It can be given several times:\n\n";
  for (const std::string& word : acceptable_issues()) {
    const auto* const row = std::ranges::find(acceptable, word, [](const auto& one) { return one.first; });
    text += fmt::format("  {:<14} {}\n", word, row == acceptable.end() ? "" : row->second);
  }
  return text;
}

std::string platforms_topic() {
  const Catalog catalog;
  std::string text = "Platforms go by these tags; `bayswap layouts` lists the forms of their files:\n\n";
  for (const std::string& tag : platform_tag_list()) {
    const auto platform = platform_from_tag(tag);
    const std::size_t layouts = platform ? catalog.all(*platform).size() : 0;
    std::vector<std::string> forms;
    if (layouts > 0) forms.push_back(counted(layouts, "form") + " of battery saves");
    if (card_kind_from_text(tag)) forms.emplace_back("memory cards");
    if (forms.empty()) forms.emplace_back("as files and folders");
    text += fmt::format("  {:<5} {}\n", tag, joined(forms, ", "));
  }
  return text;
}

}  // namespace

std::vector<std::string> help_topics() {
  std::vector<std::string> names;
  names.reserve(topics.size() + 2);
  for (const Topic& topic : topics) names.emplace_back(topic.name);
  names.emplace_back("accept");
  names.emplace_back("platforms");
  return names;
}

std::string help_topic(std::string_view name) {
  if (name == "accept") return accept_topic();
  if (name == "platforms") return platforms_topic();
  const auto* const topic =
      std::find_if(topics.begin(), topics.end(), [&](const Topic& one) { return one.name == name; });
  return topic == topics.end() ? std::string() : std::string(topic->text);
}

}  // namespace bayswap::cli
