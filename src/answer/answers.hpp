// What the library answers with, as JSON documents: the same from the tool and over the C interface. Their
// schemas are in docs/schema.
#pragma once

#include <bayswap/bay_saves.hpp>
#include <bayswap/card.hpp>
#include <bayswap/carry.hpp>
#include <bayswap/inspect.hpp>

#include "answer/json.hpp"

namespace bayswap {

/// Words a remedy for whoever reads it; `acceptable`: the refusal that it is about, if a user may accept it.
using RemedyWords = std::function<std::string(const std::string& hint, const Remedy& remedy,
                                              std::optional<IssueCode> acceptable)>;

/// "2031-05-04T16:30:00Z".
[[nodiscard]] std::string utc_time(std::int64_t seconds);

[[nodiscard]] Json to_json(const GameId& game);
[[nodiscard]] Json to_json(const Entry& entry);
[[nodiscard]] Json to_json(const HeldSave& save);
[[nodiscard]] Json to_json(CardKind kind, const CardEntry& entry);
[[nodiscard]] Json to_json(const std::vector<CardProblem>& problems);
/// What `card list` says; `slots`: how many cards the file has.
[[nodiscard]] Json card_json(const Card& card, int slots);
[[nodiscard]] std::string_view to_text(BackedUpSave::Outcome outcome);
[[nodiscard]] Json to_json(const BackedUpSave& save);
[[nodiscard]] Json to_json(const BatchRow& row);
[[nodiscard]] std::string_view to_text(Fit fit);
/// "either gba.flash or gba.sram"
[[nodiscard]] std::string either_in_words(const Finding& finding);
/// A file's finding; its digests are not in it.
[[nodiscard]] Json to_json(const std::string& path, const Finding& finding);
/// {"code", "message", "hint", "remedy": {"kind", "values"}}
[[nodiscard]] Json error_json(const Error& error);
[[nodiscard]] Json plan_json(const Plan& plan, const RemedyWords& words);

}  // namespace bayswap
