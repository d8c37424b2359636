#include "inspect/single_saves.hpp"

#include <fmt/format.h>
#include <bayswap/card.hpp>

#include <algorithm>

#include "card/dc.hpp"

namespace bayswap {
namespace {

void describe_single(const CardSave& save, double confidence, Finding& finding) {
  finding.kind = FileKind::single_save;
  finding.platform = platform_from_tag(to_text(save.kind));
  finding.confidence = confidence;
  const CardEntry entry = describe(save);
  finding.evidence.push_back(fmt::format("its name is {}{}, its content has {} bytes", entry.name,
                                         entry.title.empty() ? "" : fmt::format(" ({})", entry.title),
                                         entry.size_bytes));
  if (!entry.code.empty() && finding.platform)
    finding.game = GameId{*finding.platform, entry.code, entry.title, entry.region};
}

}  // namespace

bool find_single(const Blob& bytes, bool anywhere, Finding& finding) {
  if (const auto save = single_save_from(bytes)) {
    constexpr std::string_view parcel = "PARCEL1";
    const bool is_parcel = std::equal(parcel.begin(), parcel.end(), bytes.view().begin(),
                                      [](char c, Byte b) { return static_cast<Byte>(c) == b; });
    finding.evidence.emplace_back(is_parcel ? "a parcel of Bay Swap's, whose digests are right"
                                            : "the console's own directory entry comes before the content");
    describe_single(*save, 0.95, finding);
    return true;
  }
  if (!anywhere) return false;
  const auto inside = find_embedded_saves(bytes);
  if (inside.empty()) return false;
  const EmbeddedSave& best = inside.front();
  finding.evidence.push_back(best.evidence);
  describe_single(best.save, inside.size() == 1 ? 0.85 : 0.6, finding);
  if (best.nameless)
    finding.evidence.emplace_back("the name it has on a card is not in the file: it has to be said");
  for (std::size_t i = 1; i < inside.size(); ++i)
    finding.evidence.push_back("or else: " + inside[i].evidence);
  return true;
}

bool find_bare_content(const Blob& bytes, Finding& finding) {
  const ByteView file = bytes.view();
  constexpr std::size_t unit = 512;
  if (file.empty() || file.size() % unit != 0) return false;
  // Looked for in earnest only where it begins as one of them does.
  const bool may_be_ps1 = file[0] == 'S' && file[1] == 'C';
  if (!may_be_ps1 && dc::covered_bytes(file) == 0) return false;
  for (const EmbeddedSave& one : find_embedded_saves(bytes)) {
    if (one.at != 0 || !one.nameless || one.save.payload.size() != file.size()) continue;
    finding.evidence.push_back(one.evidence);
    describe_single(one.save, 0.95, finding);
    finding.evidence.emplace_back("the name it has on a card is not in the file: it has to be said");
    return true;
  }
  return false;
}

}  // namespace bayswap
