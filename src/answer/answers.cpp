// Documents of what the library gives.
#include "answer/answers.hpp"

#include <fmt/format.h>

#include <array>
#include <ctime>

#include "base/text.hpp"

namespace bayswap {

std::string utc_time(std::int64_t seconds) {
  const auto time = static_cast<std::time_t>(seconds);
  std::tm parts{};
  if (gmtime_r(&time, &parts) == nullptr) return "?";
  std::array<char, 64> text{};
  return {text.data(), std::strftime(text.data(), text.size(), "%Y-%m-%dT%H:%M:%SZ", &parts)};
}

Json to_json(const GameId& game) {
  return {{"code", game.code},
          {"title", game.title},
          {"region", name(game.region)},
          {"revision", game.revision},
          {"title_id", title_id_text(game)}};
}

Json error_json(const Error& error) {
  return {{"code", to_text(error.code)},
          {"message", error.message},
          {"hint", error.hint},
          {"remedy", {{"kind", to_text(error.remedy.kind)}, {"values", error.remedy.values}}}};
}

Json to_json(const Entry& entry) {
  Json changes = Json::array();
  for (const LoggedChange& change : entry.changes) {
    const auto side = [](const std::optional<Digest>& digest, std::uint64_t bytes) {
      return digest ? Json{{"size_bytes", bytes}, {"sha256", digest->hex()}} : Json(nullptr);
    };
    changes.push_back({{"path", change.path},
                       {"before", side(change.before, change.before_bytes)},
                       {"after", side(change.after, change.after_bytes)}});
  }
  return {{"id", entry.id},
          {"kind", to_text(entry.kind)},
          {"state", to_text(entry.state)},
          {"when", utc_time(entry.begun)},
          {"device", entry.device},
          {"imported", entry.imported},
          {"reason", entry.reason},
          {"account", entry.account},
          {"place", entry.place},
          {"slot", entry.slot == 0 ? Json(nullptr) : Json(entry.slot)},
          {"content", entry.content.empty() ? Json(nullptr) : Json(entry.content)},
          {"batch", entry.batch ? Json(*entry.batch) : Json(nullptr)},
          {"game", entry.game ? to_json(*entry.game) : Json(nullptr)},
          {"from", {{"bay", entry.from_bay}, {"files", entry.from_paths}}},
          {"to", {{"bay", entry.to_bay}}},
          {"undoes", entry.undoes ? Json(*entry.undoes) : Json(nullptr)},
          {"changes", std::move(changes)}};
}

Json plan_json(const Plan& plan, const RemedyWords& words) {
  Json steps = Json::array();
  for (const Step& step : plan.steps)
    steps.push_back({{"action", step.action}, {"text", step.text}, {"why", step.why}});
  Json issues = Json::array();
  for (const PlanIssue& issue : plan.issues) {
    const bool refused = issue.level == PlanIssue::Level::refusal && is_acceptable(issue.code);
    issues.push_back(
        {{"level", to_text(issue.level)},
         {"code", to_text(issue.code)},
         {"text", issue.text},
         {"remedy", words(issue.hint, issue.remedy, refused ? std::optional(issue.code) : std::nullopt)},
         {"choices", Json(issue.remedy.values)},
         {"acceptable", refused}});
  }
  Json files = Json::array();
  for (const FileChange& change : plan.changes)
    files.push_back({{"path", change.path},
                     {"old_size_bytes", change.before ? Json(change.before->size()) : Json(nullptr)},
                     {"new_size_bytes", change.after ? Json(change.after->size()) : Json(nullptr)}});
  return {{"kind", to_text(plan.kind)},
          {"game", plan.game ? to_json(*plan.game) : Json(nullptr)},
          {"from", {{"bay", plan.from_bay}, {"files", Json(plan.from_files)}}},
          {"to", {{"bay", plan.to_bay}, {"files", std::move(files)}}},
          {"steps", std::move(steps)},
          {"issues", std::move(issues)},
          {"refused", plan.refusal() != nullptr}};
}

Json to_json(const HeldSave& save) {
  return {{"platform", tag(save.rule->platform)},
          {"game", to_json(save.facts.game)},
          {"label", save.label},
          {"kind", to_text(save.kind)},
          {"place", save.place},
          {"slot", save.rule->path.uses_slot() ? Json(save.facts.slot) : Json(nullptr)},
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

Json to_json(CardKind kind, const CardEntry& entry) {
  return {{"name", entry.name},
          {"title", entry.title},
          {"code", entry.code},
          {"region", name(entry.region)},
          {"language", entry.language},
          {"blocks", entry.blocks},
          {"size_bytes", entry.size_bytes},
          {"modified", entry.modified ? Json(card_time(kind, *entry.modified)) : Json(nullptr)},
          {"state", to_text(entry.state)}};
}
Json to_json(const std::vector<CardProblem>& problems) {
  Json list = Json::array();
  for (const CardProblem& problem : problems)
    list.push_back({{"at", problem.at}, {"mendable", problem.repairable}, {"text", problem.text}});
  return list;
}

Json card_json(const Card& card, int slots) {
  Json saves = Json::array();
  for (const CardEntry& entry : card.entries()) saves.push_back(to_json(card.kind(), entry));
  return {{"kind", to_text(card.kind())},
          {"form", card.form()},
          {"slots", slots},
          {"block_bytes", card.block_bytes()},
          {"capacity_blocks", card.capacity_blocks()},
          {"free_blocks", card.free_blocks()},
          {"notes", card.notes()},
          {"problems", to_json(card.check())},
          {"saves", std::move(saves)}};
}

std::string_view to_text(BackedUpSave::Outcome outcome) {
  switch (outcome) {
    case BackedUpSave::Outcome::kept:
      return "kept";
    case BackedUpSave::Outcome::same:
      return "same";
    case BackedUpSave::Outcome::empty:
      return "empty";
    case BackedUpSave::Outcome::failed:
      return "failed";
  }
  return "failed";
}

Json to_json(const BackedUpSave& save) {
  return {{"save", save.what},
          {"path", save.path},
          {"outcome", to_text(save.outcome)},
          {"size_bytes", save.size_bytes},
          {"entry", save.entry ? Json(*save.entry) : Json(nullptr)},
          {"why", save.why}};
}

Json to_json(const BatchRow& row) {
  return {{"save", row.save},
          {"path", row.path},
          {"platform", tag(row.platform)},
          {"outcome", to_text(row.outcome)},
          {"issue", row.issue ? Json(to_text(*row.issue)) : Json(nullptr)},
          {"text", row.why},
          {"modified", row.modified ? Json(utc_time(*row.modified)) : Json(nullptr)},
          {"target_modified", row.target_modified ? Json(utc_time(*row.target_modified)) : Json(nullptr)},
          {"entry", row.entry ? Json(*row.entry) : Json(nullptr)}};
}

std::string_view to_text(Fit fit) {
  switch (fit) {
    case Fit::exact:
      return "exact";
    case Fit::padded:
      return "padded";
    case Fit::trimmed:
      return "trimmed";
  }
  return {};
}

std::string either_in_words(const Finding& finding) {
  std::vector<std::string> ids;
  for (const Layout* layout : finding.either) ids.push_back(layout->id);
  return fmt::format("either {}", joined(ids, " or "));
}

Json to_json(const std::string& path, const Finding& finding) {
  Json parts = Json::array();
  for (const PartFinding& part : finding.parts)
    parts.push_back({{"role", to_text(part.role)}, {"size_bytes", part.size_bytes}, {"blank", part.blank}});
  Json either = Json::array();
  for (const Layout* layout : finding.either) either.push_back(layout->id);
  Json layout = nullptr;
  if (!finding.either.empty()) {
    layout = either_in_words(finding);
  } else if (finding.layout != nullptr) {
    layout = finding.layout->id;
  }
  return {{"path", path},
          {"size_bytes", finding.size_bytes},
          {"kind", to_text(finding.kind)},
          {"platform", finding.platform ? Json(tag(*finding.platform)) : Json(nullptr)},
          {"layout", std::move(layout)},
          {"either", std::move(either)},
          {"compression", to_text(finding.compression)},
          {"fit", to_text(finding.fit)},
          {"confidence", finding.confidence},
          {"evidence", finding.evidence},
          {"parts", std::move(parts)},
          {"state_map", finding.state_map},
          {"game", finding.game ? to_json(*finding.game) : Json(nullptr)}};
}

}  // namespace bayswap
