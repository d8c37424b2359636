// Slots: their names in both directions, states found in bays, copied, moved and carried.
#include <gtest/gtest.h>
#include <bayswap/state_plan.hpp>

#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/core_states.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

const Catalog& slots_catalog() {
  static const Catalog all;
  return all;
}

TEST(StateSlots, NamesAreReadInBothDirections) {
  expect_property("of names and slots", [] {
    const std::string rule = *rc::gen::element<std::string>(
        "states/{rom.stem}.state{slot.bare}", "states/{rom.stem}.st{slot}", "{rom.stem}_slot_{slot}.snap",
        "{rom.stem}{slot}.sgm", "s/{rom.stem}.{rom.md5}.mc{slot}", "{game.title}-{game.code}.{slot}",
        "{rom.stem}.{slot.letter}", "{rom.stem}.state.auto", "{game.title}/{slot.2}");
    const auto name = NameRule::parse(rule);
    RC_ASSERT(name.has_value());
    NameFacts facts;
    facts.game = {Platform::gba, "AQWE", "COG"};
    facts.rom_path = *rc::gen::element<std::string>("roms/Cog.gba", "roms/Cog 2.gba", "roms/Cog. The.gba");
    facts.rom_md5 = std::string(32, 'a');
    facts.slot = *rc::gen::inRange(name->uses("slot.letter") ? 1 : 0, name->uses("slot.letter") ? 27 : 10);
    const auto path = name->expand(facts);
    RC_ASSERT(path.has_value());
    const std::string last = path->substr(path->rfind('/') + 1);
    const auto words = name->match(name->components() - 1, last, Platform::gba);
    RC_ASSERT(words.has_value());
    const NameFacts read = facts_of_words(*words, Platform::gba);
    if (name->uses_slot()) RC_ASSERT(read.slot == facts.slot);
    if (name->uses("rom.stem"))
      RC_ASSERT(*read.rom_path == facts.rom_path->substr(5, facts.rom_path->size() - 9));
  });
  const auto bare = NameRule::parse("{rom.stem}.state{slot.bare}");
  EXPECT_FALSE(bare->match(0, "Cog.state0", Platform::gb)) << "slot 0 has no digit";
  for (const char* bad : {"1000", "-1", "x", "", "1 "}) EXPECT_FALSE(state_slot_from_text(bad)) << bad;
  EXPECT_EQ(to_text(*state_slot_from_text("auto")), "auto");
}

// A bay in memory with one platform's rule.
struct MemoryBay {
  MemoryStore store;
  Bay bay;
  std::unique_ptr<BayView> view;
  explicit MemoryBay(const std::string& name, const std::string& states) {
    const auto parsed = parse_bay("root = \"/" + name +
                                      "\"\n[platform.gb]\npath = \"saves/{rom.stem}{ext}\"\n"
                                      "layout = [\"gb.raw\", \"gb.rtc48\"]\nroms = \"roms\"\nstates = [" +
                                      states + "]\n",
                                  name, name, "/");
    EXPECT_TRUE(parsed) << (parsed ? "" : parsed.error().message);
    bay = *parsed;
    EXPECT_EQ(to_toml(*parse_bay(to_toml(bay), name, name, "/")), to_toml(bay));
  }
  void put(const std::string& path, const Blob& bytes) { ASSERT_TRUE(store.replace(path, bytes.view())); }
  BayView& open() {
    view = std::make_unique<BayView>(slots_catalog(), bay, store);
    return *view;
  }
};
Blob core(const std::string& path) {
  const auto file = core_files().read(path);
  EXPECT_TRUE(file) << path;
  return file ? *file : Blob();
}
const std::string slots_gb_rom = "roms/gb-mbc5-32k/A/Tideward (World).gb";
const std::string bare_state = "gb/gb-mbc5-32k/coreB/A/Tideward (World).state.auto";
const std::string other_bare_state = "gb/gb-mbc5-32k/coreB/B/Tideward (World).state.auto";
const std::string picture_state = "gb/gb-mbc5-32k/coreL/A/Tideward (World).ss1";
const std::string other_core_state =
    "gb/gb-mbc5-32k/coreJ/A/Tideward (World).e4aebf026daaf70695777d9bdfce9ca4.mc0";

TEST(StateSlots, ABayTellsItsStatesByGameAndSlot) {
  MemoryBay pc(
      "pc",
      R"("states/{rom.stem}.state{slot.bare}", "states/{rom.stem}.state.auto", "states/{rom.stem}{slot}.sgm")");
  pc.put("roms/Cog.gb", core(slots_gb_rom));
  pc.put("roms/Cog 2.gb", core(slots_gb_rom));
  for (const char* name :
       {"Cog.state", "Cog.state7", "Cog.state.auto", "Cog 21.sgm", "Cog12.sgm", "Lost.state1"})
    pc.put(std::string("states/") + name, core(bare_state));
  pc.put("states/notes.txt", text_blob("x"));
  const auto states = held_states(pc.open());
  ASSERT_TRUE(states) << states.error().message;
  std::map<std::string, std::string> told;
  for (const HeldState& one : *states) told[one.path] = one.game + " " + to_text(one.slot);
  const std::map<std::string, std::string> wanted{
      {"states/Cog.state", "Cog 0"},    {"states/Cog.state7", "Cog 7"}, {"states/Cog.state.auto", "Cog auto"},
      {"states/Cog 21.sgm", "Cog 2 1"}, {"states/Cog12.sgm", "Cog 12"}, {"states/Lost.state1", "Lost 1"}};
  EXPECT_EQ(told, wanted);
  EXPECT_EQ(find_states(*pc.view, "cog")->size(), 4U);
  EXPECT_EQ(find_states(*pc.view, "states/Cog 21.sgm")->size(), 1U);
  EXPECT_TRUE(find_states(*pc.view, "nothing")->empty());
  EXPECT_EQ(find_states(*pc.view, "TIDEWARD").error().remedy.values.size(), 2U)
      << "both ROMs have that title";
}

TEST(StateSlots, CopiesAndMovesAreWholeAndTakenBack) {
  MemoryBay pc("pc", R"("states/{rom.stem}.state{slot.bare}", "states/{rom.stem}.state.auto")");
  pc.put("roms/Cog.gb", core(slots_gb_rom));
  pc.put("states/Cog.state", core(bare_state));
  pc.put("states/Cog.state.auto", core(other_bare_state));
  MemoryStore home;
  Logbook logbook = *Logbook::open(home, ":memory:");
  const auto before = pc.store.files();
  const auto slot = [&](const std::string& path) {
    const auto states = find_states(pc.open(), path);
    return states->front();
  };
  HeldState from = slot("states/Cog.state.auto");
  EXPECT_EQ(plan_slot_change(*pc.view, from, {false, 0}, true, false).error().code, ErrorCode::unsafe);
  from = slot("states/Cog.state");
  EXPECT_EQ(plan_slot_change(*pc.view, from, {false, 0}, true, false).error().code, ErrorCode::bad_usage);
  for (const bool move : {false, true}) {
    from = slot("states/Cog.state.auto");
    const auto plan = plan_slot_change(*pc.view, from, {false, 0}, move, true);
    ASSERT_TRUE(plan) << plan.error().message;
    const auto entry = run(*plan, pc.store, logbook);
    ASSERT_TRUE(entry) << entry.error().message;
    EXPECT_EQ(pc.store.files().at("states/Cog.state"), core(other_bare_state));
    EXPECT_EQ(pc.store.files().contains("states/Cog.state.auto"), !move);
    const auto logged = logbook.entry(*entry);
    ASSERT_TRUE(logged);
    EXPECT_EQ(logged->changes.size(), move ? 2U : 1U) << "all that went is kept";
    pc.put("states/Cog.state", core(bare_state));
    pc.put("states/Cog.state.auto", core(other_bare_state));
    EXPECT_EQ(pc.store.files(), before);
  }
}

TEST(StateSlots, StatesAreCarriedInTheOtherBaysNamesAndForm) {
  MemoryBay pc("pc", R"("states/{rom.stem}.ss{slot}")");
  pc.put("roms/Cog.gb", core(slots_gb_rom));
  pc.put("states/Cog.ss1", core(picture_state));
  MemoryBay tv("tv", R"("st/{rom.stem}.state{slot.bare}", "st/{rom.stem}.state.auto")");
  tv.put("roms/Cog (World).gb", core(slots_gb_rom));
  const StateMaps maps;
  const auto plan = [&](const std::set<IssueCode>& accept = {}) {
    const auto states = find_states(pc.open(), "Cog");
    return plan_state_carry(*pc.view, tv.open(), *states, maps, accept);
  };
  auto alone = plan();
  ASSERT_TRUE(alone) << alone.error().message;
  ASSERT_EQ(alone->changes.size(), 1U);
  EXPECT_EQ(alone->changes[0].path, "st/Cog (World).state1");
  EXPECT_EQ(*alone->changes[0].after, core(picture_state)) << "no kind of state is known there";
  ASSERT_EQ(alone->issues.size(), 1U);
  EXPECT_EQ(alone->issues[0].code, IssueCode::other_program);
  // Beside a state of the same core in another form it gets that form; beside another core's a warning.
  tv.put("st/Cog (World).state5", core(other_bare_state));
  const auto made = plan();
  ASSERT_TRUE(made) << made.error().message;
  EXPECT_TRUE(made->issues.empty());
  const auto look = look_at_state(maps, *made->changes[0].after, Platform::gb, {{PartKind::sram, 32768, ""}});
  EXPECT_EQ(look.map, "gb.chunked-a");
  ASSERT_TRUE(look.save);
  tv.put("st/Cog (World).state5", core(other_core_state));
  EXPECT_EQ(plan()->issues.at(0).code, IssueCode::other_program);
  ASSERT_TRUE(tv.store.remove("roms/Cog (World).gb"));
  EXPECT_EQ(plan().error().code, ErrorCode::not_found);
}

TEST(StateSlots, TheBatterySaveInAStateIsCarriedAsTheGamesSave) {
  MemoryBay pc("pc", R"("states/{rom.stem}.state{slot.bare}")");
  pc.put("roms/Cog.gb", core(slots_gb_rom));
  pc.put("saves/Cog.sav", noise(32768, 3));
  pc.put("states/Cog.state", core(bare_state));
  MemoryBay tv("tv", R"("st/{rom.stem}.state{slot.bare}")");
  tv.put("roms/Cog (World).gb", core(slots_gb_rom));
  const StateMaps maps;
  const auto states = find_states(pc.open(), "Cog");
  const auto look = look_at_state(maps, core(bare_state), Platform::gb, {{PartKind::sram, 32768, ""}});
  ASSERT_TRUE(look.save);
  const auto source = source_of_state(*pc.view, states->front(), *look.save);
  ASSERT_TRUE(source) << source.error().message;
  EXPECT_EQ(source->path, "saves/Cog.sav");
  BayView over(slots_catalog(), pc.bay, *source->store);
  CarryRequest request;
  request.what = source->path;
  MemoryStore outside;
  const auto plan = plan_carry(over, tv.open(), outside, request);
  ASSERT_TRUE(plan) << plan.error().message;
  ASSERT_EQ(plan->changes.size(), 1U);
  EXPECT_EQ(plan->changes[0].path, "saves/Cog (World).sav");
  EXPECT_EQ(*plan->changes[0].after, look.save->parts.front().bytes);
  EXPECT_EQ(pc.store.files().at("saves/Cog.sav"), noise(32768, 3)) << "the source's own save stays";
}

// ---- One snapshot in several programs' forms --------------------------------------------------------------

TEST(StateForms, EverySectionGoesOverBitForBit) {
  StateMaps maps;
  const auto map = [&](const char* id) { return **maps.find(id); };
  for (const std::string program : {"gb-mbc2", "gb-mbc3rtc", "gb-mbc5-32k"}) {
    const Blob picture = core("gb/" + program + "/coreL/A/Tideward (World).ss1");
    const Blob chunked = core("gb/" + program + "/coreB/B/Tideward (World).state.auto");
    const auto bare = converted_state(map("gb.picture-a"), picture, map("gb.plain-a"));
    ASSERT_TRUE(bare) << bare.error().message;
    EXPECT_EQ(bare->file.size(), 202816U);
    // There and back again, by each form, made anew or after another state.
    for (const Blob* base : {static_cast<const Blob*>(nullptr), &chunked}) {
      const auto in_chunks = converted_state(map("gb.picture-a"), picture, map("gb.chunked-a"), base);
      ASSERT_TRUE(in_chunks) << in_chunks.error().message;
      EXPECT_EQ(in_chunks->file.size(), chunked.size());
      EXPECT_EQ(open_envelope(in_chunks->file, map("gb.chunked-a").envelope)->view().size(), 202816U);
      EXPECT_EQ(*open_envelope(in_chunks->file, map("gb.chunked-a").envelope), bare->file);
      const auto again = converted_state(map("gb.chunked-a"), in_chunks->file, map("gb.picture-a"), &picture);
      ASSERT_TRUE(again) << again.error().message;
      const auto layers = [](const Blob& file) {
        std::map<std::string, Blob> all;
        for (const Layer& layer : find_layers(file))
          if (layer.envelope.size() == 2) all[to_text(layer.envelope)] = layer.bytes;
        return all;
      };
      EXPECT_EQ(layers(again->file), layers(picture)) << program;
      EXPECT_FALSE(again->notes.empty());
      EXPECT_TRUE(is_state_of(map("gb.picture-a"), again->file));
    }
    const auto fresh = converted_state(map("gb.chunked-a"), chunked, map("gb.picture-a"));
    ASSERT_TRUE(fresh) << fresh.error().message;
    EXPECT_TRUE(picture_in_state(fresh->file));
    EXPECT_EQ(converted_state(map("gb.gzip-b"), chunked, map("gb.plain-a")).error().code,
              ErrorCode::unsupported);
  }
}

TEST(StateForms, ASnapshotOfNoKnownKindGoesIntoTheOthersEnvelope) {
  using Bytes = std::vector<Byte>;
  const auto snapshot = [](std::uint32_t seed) { return joined({text_blob("SNAPSHOT"), noise(5000, seed)}); };
  const auto chunked = [&](std::uint32_t seed) {
    Bytes length(4);
    put_le(length, 0, 4, 5008);
    Bytes four(4);
    put_le(four, 0, 4, 4);
    return joined({text_blob("BODY"), Blob::copy_of(length), snapshot(seed), text_blob("TAIL"),
                   Blob::copy_of(four), text_blob("abcd")});
  };
  const Blob packed = wrap(Compression::gzip, snapshot(1));
  const auto made = rewrapped_state(packed, chunked(2));
  ASSERT_TRUE(made) << made.error().message;
  EXPECT_EQ(made->file, chunked(1));
  const auto back = rewrapped_state(made->file, wrap(Compression::gzip, snapshot(3)));
  ASSERT_TRUE(back) << back.error().message;
  EXPECT_EQ(back->file, packed);
  EXPECT_EQ(rewrapped_state(packed, wrap(Compression::gzip, noise(5008, 9))).error().code,
            ErrorCode::unsupported);
  // A map is of the snapshot, whatever another program has put around it.
  StateMaps maps;
  const StateMap& map = **maps.find("gb.chunked-a");
  const Blob inside = *open_envelope(core(bare_state), map.envelope);
  for (const Compression kind : {Compression::gzip, Compression::zlib, Compression::chunks}) {
    const auto own = map_for(map, wrap(kind, inside));
    ASSERT_TRUE(own);
    EXPECT_TRUE(battery_in_state(*own, wrap(kind, inside), {{PartKind::sram, 32768, ""}}));
  }
  EXPECT_FALSE(map_for(map, noise(202816, 4)));
}

}  // namespace
}  // namespace bayswap::test
