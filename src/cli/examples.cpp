// What each command's help shows as examples.
#include "cli/help.hpp"

#include <algorithm>
#include <array>

namespace bayswap::cli {
namespace {

struct Row {
  std::string_view command;
  std::string_view lines;
};
constexpr std::array<Row, 77> example_rows{{
    {"", "bayswap bay look\nbayswap carry saves/Cog.srm --to /media/stick\nbayswap undo"},
    {"inspect", "bayswap inspect Cog.srm\nbayswap inspect /media/stick\nbayswap inspect download.zip"},
    {"convert",
     "bayswap convert Skiff.srm --to n64.separate --out skiff/\nbayswap convert skiff/Skiff.sra "
     "skiff/Skiff.eep --to "
     "n64.combined --out Skiff.srm\nbayswap convert saves --to gb.raw --out converted/"},
    {"infer", "bayswap infer known.sav unknown.dat --id gb.my-program"},
    {"layouts", "bayswap layouts\nbayswap layouts gba\nbayswap layouts n64.combined"},
    {"bay", "bayswap bay look\nbayswap bay add tv /media/tv"},
    {"bay add",
     "bayswap bay add tv /media/tv\nbayswap bay add tv /media/tv --like stem-folder\nbayswap bay add n64-box "
     "--root /media/box --platform n64 --path 'saves/{rom.stem}{ext}' --layout n64.separate --roms roms"},
    {"bay look", "bayswap bay look\nbayswap bay look /media/stick"},
    {"bay edit", "EDITOR=nano bayswap bay edit tv"},
    {"bay rename", "bayswap bay rename tv living-room"},
    {"bay remove", "bayswap bay remove tv"},
    {"bay list", "bayswap bay list\nbayswap bay list --forms"},
    {"list", "bayswap list tv"},
    {"bay show", "bayswap bay show tv"},
    {"bay check", "bayswap bay check\nbayswap bay check tv"},
    {"bay picture", "bayswap bay picture tv --out tv.png"},
    {"carry",
     "bayswap carry 'Lantern Skiff' --from handheld --to tv\nbayswap carry saves/Cog.srm --to "
     "/media/stick\nbayswap carry "
     "--all --from handheld --to tv --dry-run\nbayswap carry N99P --from tv --to handheld --region "
     "europe\nbayswap "
     "carry download.zip --to tv --game 'Lantern Skiff'"},
    {"backup", "bayswap backup handheld\nbayswap backup handheld 'Lantern Skiff'"},
    {"chips", "bayswap chips"},
    {"chips remove", "bayswap chips remove N99P"},
    {"pairs", "bayswap pairs"},
    {"pairs remove", "bayswap pairs remove 'saves/my best run.srm'"},
    {"logbook", "bayswap logbook\nbayswap logbook 'Lantern Skiff'"},
    {"logbook prune",
     "bayswap logbook prune --keep 10 --per-save --dry-run\nbayswap logbook prune --keep 10 --per-save"},
    {"logbook export", "bayswap logbook export /media/backup/logbook"},
    {"logbook import", "bayswap logbook import /media/backup/logbook"},
    {"logbook check", "bayswap logbook check\nbayswap logbook check --repair"},
    {"restore",
     "bayswap restore 'Lantern Skiff' --entry 12\nbayswap restore 'Lantern Skiff' --date 'a week ago'"},
    {"undo", "bayswap undo\nbayswap undo 12\nbayswap undo --last 2"},
    {"demo", "bayswap demo --out world"},
    {"card", "bayswap card list mine.mcr\nbayswap card picture mine.mcr --out mine.png"},
    {"card list", "bayswap card list mine.mcr"},
    {"card export",
     "bayswap card export mine.mcr BESLES-99001A --out save.parcel\nbayswap card export mine.mcr --all --out "
     "saves/"},
    {"card import", "bayswap card import mine.mcr save.parcel"},
    {"card remove", "bayswap card remove mine.mcr BESLES-99001A"},
    {"card undelete", "bayswap card undelete mine.mcr BESLES-99001A"},
    {"card copy",
     "bayswap card copy mine.mcr BESLES-99001A other.mcr\nbayswap card copy mine.mcr --all other.mcr"},
    {"card restamp", "bayswap card restamp mine.gcp G99E99.save --region europe"},
    {"card make", "bayswap card make ps1 new.mcr\nbayswap card make gc new.raw --blocks 251"},
    {"card check", "bayswap card check mine.mcr\nbayswap card check mine.mcr --repair"},
    {"card rescue", "bayswap card rescue broken.mcr --out fresh.mcr"},
    {"card picture", "bayswap card picture mine.mcr --out mine.png"},
    {"state", "bayswap state list tv\nbayswap state export Cog.state --out Cog.sav"},
    {"state show", "bayswap state show Cog.state"},
    {"state list", "bayswap state list tv\nbayswap state list tv 'Cog'"},
    {"state copy", "bayswap state copy Cog --in tv --slot auto --to-slot 3"},
    {"state move", "bayswap state move Cog --in tv --slot 1 --to-slot 2"},
    {"state export", "bayswap state export Cog.state --rom Cog.gb --out Cog.sav"},
    {"state import", "bayswap state import Cog.state Cog.sav --out Cog-new.state"},
    {"state convert", "bayswap state convert Cog.state --base other.state --out Cog.other"},
    {"state diff", "bayswap state diff monday.state friday.state"},
    {"state picture", "bayswap state picture tv --out states.png"},
    {"state learn", "bayswap state learn a.state a.sav b.state b.sav --id gb.my-program"},
    {"state maps", "bayswap state maps\nbayswap state maps gb.plain-a"},
    {"cart", "bayswap cart look\nbayswap cart dump --to tv"},
    {"cart ports", "bayswap cart ports"},
    {"cart look", "bayswap cart look"},
    {"cart dump", "bayswap cart dump\nbayswap cart dump --to tv"},
    {"cart rom", "bayswap cart rom --out roms/"},
    {"cart write", "bayswap cart write Cog.sav\nbayswap cart write --resume"},
    {"sheet", "bayswap sheet show Cog.sav"},
    {"sheet show", "bayswap sheet show Cog.sav\nbayswap sheet show tv: Cog"},
    {"sheet set", "bayswap sheet set Cog.sav coins=500 --out Cog-rich.sav"},
    {"sheet check", "bayswap sheet check Cog.sav"},
    {"sheet diff", "bayswap sheet diff before.sav after.sav"},
    {"sheet export", "bayswap sheet export Cog.sav members[2] --out ida.json"},
    {"sheet import", "bayswap sheet import Cog.sav members ida.json --out Cog-new.sav"},
    {"sheet find", "bayswap sheet find monday.sav friday.sav --value 120,450"},
    {"sheet checksum", "bayswap sheet checksum monday.sav friday.sav sunday.sav"},
    {"sheet draft", "bayswap sheet draft monday.sav friday.sav --value 120,450 --name coins --id cog"},
    {"sheet list", "bayswap sheet list"},
    {"sync", "bayswap sync\nbayswap sync --watch\nbayswap sync --dry-run"},
    {"sync set",
     "bayswap sync set home-pc --with states\nbayswap sync set home-pc --leave 'saves/test*' --max-bytes "
     "1000000"},
    {"sync join",
     "bayswap sync join /media/stick/sync-folder\nbayswap sync join https://nas.local/dav/sync-folder "
     "--encrypt"},
    {"sync key", "bayswap sync key enter"},
    {"sync resolve", "bayswap sync resolve 'Lantern Skiff' --keep handheld"},
}};

}  // namespace

std::string examples_of(std::string_view command) {
  const auto* const row = std::find_if(example_rows.begin(), example_rows.end(),
                                       [&](const Row& one) { return one.command == command; });
  std::string text;
  if (row == example_rows.end()) return text;
  std::string_view lines = row->lines;
  while (!lines.empty()) {
    const std::size_t end = std::min(lines.find('\n'), lines.size());
    text += "  " + std::string(lines.substr(0, end)) + "\n";
    lines.remove_prefix(std::min(end + 1, lines.size()));
  }
  return "Examples:\n" + text;
}

}  // namespace bayswap::cli
