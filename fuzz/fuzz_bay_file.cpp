#include <bayswap/carry.hpp>

#include "fuzz.hpp"
#include "logbook/record.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const auto text = bayswap::fuzz::text(data, size);
  if (const auto bay = bayswap::parse_bay(text, "fuzz", "fuzz", "/")) {
    const auto again = bayswap::parse_bay(bayswap::to_toml(*bay), "fuzz", "fuzz", "/");
    bayswap::fuzz::require(again.has_value() && bayswap::to_toml(*again) == bayswap::to_toml(*bay));
  }
  if (const auto book = bayswap::ChipBook::parse(text, "fuzz")) {
    const auto again = bayswap::ChipBook::parse(book->to_toml(), "fuzz");
    bayswap::fuzz::require(again.has_value() && again->to_toml() == book->to_toml());
  }
  if (const auto titles = bayswap::TitleBook::parse(text, "fuzz")) {
    const auto again = bayswap::TitleBook::parse(titles->to_toml(), "fuzz");
    bayswap::fuzz::require(again.has_value() && again->to_toml() == titles->to_toml());
  }
  if (const auto entry = bayswap::entry_from_record(text, "fuzz")) {
    const auto again = bayswap::entry_from_record(bayswap::record_text(*entry), "fuzz");
    bayswap::fuzz::require(again.has_value() && bayswap::record_text(*again) == bayswap::record_text(*entry));
  }
  (void)bayswap::AccountBook::parse(text, "fuzz");
  if (const auto pairs = bayswap::PairBook::parse(text, "fuzz")) {
    const auto again = bayswap::PairBook::parse(pairs->to_toml(), "fuzz");
    bayswap::fuzz::require(again.has_value() && again->to_toml() == pairs->to_toml());
  }
  (void)bayswap::companion_rules(text, "fuzz");
  if (const auto rule = bayswap::NameRule::parse(text)) {
    for (std::size_t i = 0; i < rule->components(); ++i)
      if (const auto words = rule->match(i, text.substr(0, 60), bayswap::Platform::wiiu))
        (void)bayswap::facts_of_words(*words, bayswap::Platform::wiiu);
    bayswap::NameFacts facts;
    facts.rom_path = "roms/x.z64";
    facts.game.title = std::string(text.substr(0, 40));
    facts.game.code = std::string(text.substr(text.size() / 2));
    if (const auto path = rule->expand(facts))
      bayswap::fuzz::require(!path->starts_with('/') &&
                             ("/" + *path + "/").find("/../") == std::string::npos);
  }
  return 0;
}
