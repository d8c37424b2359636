// What a change did to a file, for people.
#include <fmt/format.h>
#include <bayswap/card.hpp>
#include <bayswap/layout.hpp>
#include <bayswap/logbook.hpp>

#include <algorithm>

#include "base/text.hpp"

namespace bayswap {
namespace {

std::string bytes_in_words(const Blob& before, const Blob& after) {
  const std::size_t both = std::min(before.size(), after.size());
  const std::size_t all = std::max(before.size(), after.size());
  std::size_t differ = all - both;
  std::size_t first = all;
  std::size_t last = 0;
  for (std::size_t i = 0; i < both; ++i) {
    if (before.view()[i] == after.view()[i]) continue;
    ++differ;
    first = std::min(first, i);
    last = i;
  }
  if (differ == 0) return "the same bytes";
  if (before.size() != after.size()) last = all - 1;
  first = std::min(first, both);
  const double share = 100 * static_cast<double>(differ) / static_cast<double>(all);
  const std::string size =
      before.size() == after.size()
          ? fmt::format("{} bytes", after.size())
          : fmt::format("{} bytes, {}{}", after.size(), after.size() > before.size() ? "+" : "-", all - both);
  return fmt::format("{}; {} % differ, {:X} to {:X}", size,
                     share < 1 ? "under 1" : fmt::format("{:.0f}", share), first, last);
}

std::string cards_in_words(const Blob& before, const Blob& after) {
  if (!guess_card(before.view()) || !guess_card(after.view())) return {};
  const auto old_card = open_card(before);
  const auto new_card = open_card(after);
  if (!old_card || !new_card || (*old_card)->kind() != (*new_card)->kind()) return {};
  std::vector<std::string> words;
  for (const CardEntry& entry : (*new_card)->entries()) {
    if (entry.state != CardEntry::State::good) continue;
    const auto now = (*new_card)->read(entry.name);
    const auto then = (*old_card)->read(entry.name);
    if (!now) continue;
    if (!then) words.push_back(entry.name + " added");
    if (then && !then->same_content(*now)) words.push_back(entry.name + " changed");
  }
  for (const CardEntry& entry : (*old_card)->entries())
    if (entry.state == CardEntry::State::good && !(*new_card)->read(entry.name))
      words.push_back(entry.name + " gone");
  return joined(words, ", ");
}

std::string parts_in_words(const Catalog& catalog, const Blob& before, const Blob& after) {
  const Recognition told = recognise(catalog, after);
  if (told.matches.empty() || told.matches.front().layout->slots.size() < 2) return {};
  const auto old_save = open_save(*told.matches.front().layout, before);
  const auto new_save = open_save(*told.matches.front().layout, after);
  if (!old_save || !new_save) return {};
  std::vector<std::string> words;
  for (const Part& part : new_save->save.parts) {
    const Part* then = old_save->save.find(part.role);
    if (then == nullptr || then->bytes != part.bytes) words.push_back(to_text(part.role));
  }
  return words.empty() ? "" : fmt::format("in {}", joined(words, ", "));
}

}  // namespace

std::string change_in_words(const Catalog& catalog, const std::optional<Blob>& before,
                            const std::optional<Blob>& after) {
  if (!after) return before ? fmt::format("removed, {} bytes", before->size()) : "nothing";
  if (!before) return fmt::format("new, {} bytes", after->size());
  std::string text = bytes_in_words(*before, *after);
  std::string more = cards_in_words(*before, *after);
  if (more.empty()) more = parts_in_words(catalog, *before, *after);
  return more.empty() ? text : text + "; " + more;
}

}  // namespace bayswap
