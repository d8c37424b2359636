#include <bayswap/layout.hpp>

#include <fmt/format.h>

#include <algorithm>
#include <cassert>
#include <mutex>

#include "base/built_in.hpp"
#include "base/order.hpp"
#include "base/text.hpp"

namespace bayswap {

namespace {

// A constant table, each row read when somebody first asks for it: most commands need two or three.
const Layout* built_in(std::size_t index) {
  struct Row {
    std::once_flag is_read;
    std::optional<Layout> layout;
  };
  static std::vector<Row> table(built_in_layouts().size());
  Row& row = table[index];
  std::call_once(row.is_read, [&] {
    const BuiltInText& text = built_in_layouts()[index];
    auto layout = parse_layout(text.toml, "built in");
    assert(layout && layout->id == text.id);  // a test reads them all
    row.layout = *std::move(layout);
  });
  return &*row.layout;
}

}  // namespace

Result<void> Catalog::add(Layout layout) {
  const auto rows = built_in_layouts();
  const bool is_built_in =
      std::ranges::binary_search(rows, std::string_view(layout.id), {}, &BuiltInText::id);
  const auto known = std::ranges::find_if(added_, [&](const auto& row) { return row->id == layout.id; });
  if (is_built_in || known != added_.end())
    return fail(ErrorCode::bad_usage,
                fmt::format("{}: the id '{}' is taken ({})", layout.origin, layout.id,
                            is_built_in ? std::string("built in") : (*known)->origin),
                "give the layout another id");
  added_.push_back(std::make_shared<const Layout>(std::move(layout)));
  return {};
}

Result<const Layout*> Catalog::find(std::string_view id) const {
  const auto rows = built_in_layouts();
  const auto row = std::ranges::lower_bound(rows, id, {}, &BuiltInText::id);
  if (row != rows.end() && row->id == id) return built_in(static_cast<std::size_t>(row - rows.begin()));
  for (const auto& layout : added_)
    if (layout->id == id) return layout.get();
  std::vector<std::string> ids;
  for (const BuiltInText& text : rows) ids.emplace_back(text.id);
  for (const auto& layout : added_) ids.push_back(layout->id);
  std::string hint = did_you_mean(id, ids);
  return fail(ErrorCode::bad_usage, fmt::format("no layout is called '{}'", printable(id)), hint,
              {Remedy::Kind::list_layouts, {}});
}

std::vector<const Layout*> Catalog::all(std::optional<Platform> platform) const {
  const std::string prefix = platform ? fmt::format("{}.", tag(saves_as(*platform))) : std::string{};
  std::vector<const Layout*> layouts;
  const auto rows = built_in_layouts();
  for (std::size_t i = 0; i < rows.size(); ++i)
    if (rows[i].id.starts_with(prefix)) layouts.push_back(built_in(i));
  for (const auto& layout : added_)
    if (layout->id.starts_with(prefix)) layouts.push_back(layout.get());
  sort_by(layouts, &Layout::id);
  return layouts;
}

}  // namespace bayswap
