// The home folder, and what only looks or keeps.
#include <fmt/format.h>

#include <cstdlib>
#include <map>

#include "answer/answers.hpp"
#include "base/path.hpp"
#include "base/text.hpp"
#include "base/try.hpp"
#include "c/handles.hpp"
#include "c/request.hpp"

namespace bayswap::c {
namespace {

Result<Hints> hints_of(const std::string& name) {
  Hints hints;
  hints.extension = lower(extension_of(name));
  return hints;
}

Result<const Layout*> layout_of(const Catalog& catalog, const Blob& bytes, const std::string& said,
                                const Hints& hints) {
  if (!said.empty()) return catalog.find(said);
  const Finding finding = inspect(catalog, bytes, hints);
  if (!finding.either.empty()) {
    std::vector<std::string> ids;
    for (const Layout* layout : finding.either) ids.push_back(layout->id);
    return fail(ErrorCode::not_recognised, fmt::format("the bytes could be {}", either_in_words(finding)),
                "pass one of them as \"from\"", {Remedy::Kind::source_layout, std::move(ids)});
  }
  if (finding.layout == nullptr)
    return fail(
        ErrorCode::not_recognised,
        fmt::format("the bytes are not a battery save that we know: {}", joined(finding.evidence, "; ")),
        "pass its layout as \"from\"", {Remedy::Kind::source_layout, {}});
  return finding.layout;
}

Result<std::pair<Blob, Json>> converted(const Catalog& catalog, const Blob& bytes,
                                        const std::optional<Blob>& base, Request& request) {
  const std::string from = request.text("from");
  const std::string to = request.text("to");
  const std::string part = request.text("part");
  BAYSWAP_TRY(const Hints hints, hints_of(request.text("name")));
  BAYSWAP_CHECK(request.end());
  if (to.empty()) return fail(ErrorCode::bad_usage, "the request has no \"to\"", "pass the id of a layout");
  ConvertRequest wanted;
  BAYSWAP_TRY(wanted.to, catalog.find(to));
  BAYSWAP_TRY(const Layout* source, layout_of(catalog, bytes, from, hints));
  BAYSWAP_TRY(OpenedSave opened, open_save(*source, bytes));
  std::vector<std::string> notes = opened.notes;
  wanted.inputs.push_back(std::move(opened.save));
  wanted.base = base ? &*base : nullptr;
  BAYSWAP_TRY(const Converted done, convert(catalog, wanted));
  notes.insert(notes.end(), done.notes.begin(), done.notes.end());
  const ConvertedFile* file = done.files.size() == 1 ? &done.files.front() : nullptr;
  std::vector<std::string> parts;
  for (const ConvertedFile& one : done.files) {
    parts.push_back(to_text(one.role));
    if (!part.empty() && parts.back() == part) file = &one;
  }
  if (file == nullptr)
    return fail(ErrorCode::bad_usage, fmt::format("{} is a set of files: {}", to, joined(parts, ", ")),
                "pass one of them as \"part\"", {Remedy::Kind::chip, parts});
  std::vector<std::string> warnings = done.warnings;
  if (done.empty) warnings.emplace_back("everything in it is blank");
  for (const DumpDefect& defect : done.defects) warnings.push_back(defect.text);
  Json answer{{"from", source->id}, {"to", file->layout->id}, {"part", part},
              {"notes", notes},     {"warnings", warnings},   {"cuts", done.cuts}};
  return std::pair(file->bytes, std::move(answer));
}

}  // namespace
}  // namespace bayswap::c

using namespace bayswap;     // NOLINT(google-build-using-namespace): the functions are C's, outside of any
using namespace bayswap::c;  // NOLINT(google-build-using-namespace)

extern "C" {

bsw_status bsw_home_open(const char* folder, const char* options, bsw_home** home) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home}));
    BAYSWAP_TRY(Request request, Request::parse(options));
    SessionOptions how;
    const std::int64_t seconds = request.number("lock_seconds", how.lock_seconds);
    BAYSWAP_CHECK(request.end());
    constexpr std::int64_t longest = 86400;
    if (seconds < 0 || seconds > longest)
      return fail(ErrorCode::bad_usage, fmt::format("lock_seconds is {}", seconds), "pass 0 to 86400");
    how.lock_seconds = static_cast<int>(seconds);
    auto opened = std::make_unique<bsw_home>();
    opened->state = std::make_shared<HomeState>();
    opened->state->folder = folder == nullptr ? "" : folder;
    BAYSWAP_TRY(const Home paths, opened->state->folder.empty()
                                      ? Home::of_user()
                                      : Result<Home>(Home::under(opened->state->folder)));
    BAYSWAP_TRY(opened->state->session, Session::open(paths, how));
    *home = opened.release();
    return {};
  });
}

void bsw_home_close(bsw_home* home) {
  delete home;
}

bsw_status bsw_list(bsw_home* home, const char* place, const char* request, bsw_event event, void* user,
                    char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, place, json}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    const bool names_only = asked.flag("names_only");
    BAYSWAP_CHECK(asked.end());
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    BAYSWAP_TRY(const auto opened, home->state->session->look(place, progress_from(event, user)));
    BAYSWAP_TRY(const auto* saves, opened->saves(names_only ? BayView::Depth::names : BayView::Depth::whole));
    BAYSWAP_CHECK(opened->view->check());
    Json list = Json::array();
    for (const HeldSave& save : *saves) list.push_back(to_json(save));
    *json = text_out({{"bay", opened->bay.name}, {"root", opened->bay.root}, {"saves", std::move(list)}});
    return {};
  });
}

bsw_status bsw_inspect(bsw_home* home, const uint8_t* bytes, size_t size, const char* request, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, json}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    const std::string name = asked.text("name");
    BAYSWAP_CHECK(asked.end());
    BAYSWAP_TRY(const Blob file, bytes_from(bytes, size));
    BAYSWAP_TRY(const Hints hints, hints_of(name));
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    *json = text_out(to_json(name, inspect(home->state->session->catalog(), file, hints)));
    return {};
  });
}

bsw_status bsw_convert(bsw_home* home, const uint8_t* bytes, size_t size, const uint8_t* base,
                       size_t base_size, const char* request, bsw_bytes* out, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, out, json}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    BAYSWAP_TRY(const Blob file, bytes_from(bytes, size));
    std::optional<Blob> shell;
    if (base != nullptr) {
      BAYSWAP_TRY(shell, bytes_from(base, base_size));
    }
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    BAYSWAP_TRY(auto done, converted(home->state->session->catalog(), file, shell, asked));
    std::unique_ptr<char, decltype(&std::free)> text(text_out(done.second), &std::free);
    *out = bytes_out(std::move(done.first));
    *json = text.release();
    return {};
  });
}

bsw_status bsw_backup(bsw_home* home, const char* place, const char* request, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, place, json}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    const std::string what = asked.text("what");
    BAYSWAP_CHECK(asked.end());
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    BAYSWAP_TRY(const auto kept, home->state->session->backup(place, what));
    Json list = Json::array();
    std::map<BackedUpSave::Outcome, std::size_t> counts;
    for (const BackedUpSave& save : kept) {
      list.push_back(to_json(save));
      ++counts[save.outcome];
    }
    *json = text_out({{"bay", place},
                      {"kept", counts[BackedUpSave::Outcome::kept]},
                      {"same", counts[BackedUpSave::Outcome::same]},
                      {"failed", counts[BackedUpSave::Outcome::failed]},
                      {"saves", std::move(list)}});
    return {};
  });
}

bsw_status bsw_logbook(bsw_home* home, const char* request, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, json}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    const std::string what = asked.text("what");
    const std::int64_t limit = asked.number("limit", 20);
    BAYSWAP_CHECK(asked.end());
    constexpr std::int64_t most = 100000;
    if (limit < 1 || limit > most)
      return fail(ErrorCode::bad_usage, fmt::format("limit is {}", limit), "pass 1 to 100000");
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    BAYSWAP_CHECK(home->state->session->resume());
    BAYSWAP_TRY(const auto entries,
                home->state->session->logbook().entries(what, static_cast<std::size_t>(limit)));
    Json list = Json::array();
    for (const Entry& entry : entries) list.push_back(to_json(entry));
    *json = text_out({{"entries", std::move(list)}});
    return {};
  });
}

}  // extern "C"
