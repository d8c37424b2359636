// MD5 and SHA-1. Digests have no algebra: ranges are tried whose ends are multiples of 16, or edges of
// changes.
#include <openssl/evp.h>

#include <algorithm>
#include <cstring>
#include <memory>
#include <unordered_map>

#include "sheet/search_inside.hpp"

namespace bayswap::checksums {
namespace {

struct FreeContext {
  void operator()(EVP_MD_CTX* context) const { EVP_MD_CTX_free(context); }
};
using Context = std::unique_ptr<EVP_MD_CTX, FreeContext>;

class DigestSearch {
 public:
  DigestSearch(Finds& finds, ChecksumForm::Kind kind)
      : finds_(finds),
        v_(finds.versions()),
        kind_(kind),
        how_(kind == ChecksumForm::Kind::md5 ? EVP_md5() : EVP_sha1()),
        size_(kind == ChecksumForm::Kind::md5 ? 16 : 20) {}

  void run() {
    collect_places();
    if (places_.empty()) return;
    collect_ends();
    // A digest over so many bytes costs about as much as so many look-ups.
    constexpr double cost_of_byte = 2;
    constexpr double cost_of_end = 100;
    const double size = static_cast<double>(v_.size);
    const auto cost = [&](double froms, double tos) {
      return froms * (size / 2 * cost_of_byte + tos / 2 * cost_of_end);
    };
    const double budget = static_cast<double>(finds_.work_left()) / 3;
    std::vector<std::size_t> grid;
    for (std::size_t step : {16U, 64U, 256U, 1024U, 4096U}) {
      grid = usual_;
      for (std::size_t at = 0; at <= v_.size; at += step) grid.push_back(at);
      sort(grid);
      if (cost(static_cast<double>(grid.size()), static_cast<double>(grid.size())) <= budget) break;
      finds_.leave_out("digests over ranges whose ends are multiples of 16 alone");
    }
    (void)finds_.allows(
        std::min(budget, cost(static_cast<double>(grid.size()), static_cast<double>(grid.size()))));
    for (const std::size_t from : grid) range_from(from, grid);
    // And from edges to anywhere.
    std::vector<std::size_t> all(v_.size + 1);
    for (std::size_t i = 0; i <= v_.size; ++i) all[i] = i;
    std::vector<std::size_t> edges{0};
    for (const auto& [key, at] : places_) edges.push_back(at + size_);
    sort(edges);
    for (const std::size_t from : edges)
      if (finds_.allows(cost(1, size))) range_from(from, all);
  }

 private:
  static void sort(std::vector<std::size_t>& ends) {
    std::ranges::sort(ends);
    ends.erase(std::unique(ends.begin(), ends.end()), ends.end());
  }

  // Where nearly all of so many bytes changed.
  void collect_places() {
    const std::size_t enough = v_.count() > 2 ? size_ : size_ - 2;
    std::size_t changed = 0;
    for (std::size_t i = 0; i < v_.size; ++i) {
      changed += v_.is_changed[i] ? 1 : 0;
      if (i >= size_) changed -= v_.is_changed[i - size_] ? 1 : 0;
      if (i + 1 < size_ || changed < enough) continue;
      const std::size_t at = i + 1 - size_;
      places_.emplace(value_at(v_.bytes[0], at, 8, false), at);
    }
    constexpr std::size_t max_places = 200'000;
    if (places_.size() > max_places) places_.clear();
  }

  void collect_ends() {
    usual_ = {0, v_.size};
    constexpr std::size_t max_edges = 200;
    if (places_.size() <= max_edges)
      for (const auto& [key, at] : places_) {
        usual_.push_back(at);
        usual_.push_back(at + size_);
      }
  }

  // One pass over the bytes from there on; at each end, the digest so far.
  void range_from(std::size_t from, const std::vector<std::size_t>& tos) {
    if (from >= v_.changed.back() + std::size_t{1}) return;
    const Context running(EVP_MD_CTX_new());
    const Context so_far(EVP_MD_CTX_new());
    if (!running || !so_far || EVP_DigestInit_ex(running.get(), how_, nullptr) != 1) return;
    std::size_t done = from;
    const auto first_change = std::ranges::lower_bound(v_.changed, from);
    for (auto to = std::ranges::upper_bound(tos, from); to != tos.end(); ++to) {
      if (EVP_DigestUpdate(running.get(), v_.bytes[0].data() + done, *to - done) != 1) return;
      done = *to;
      if (first_change == v_.changed.end() || *first_change >= *to) continue;  // nothing in it changes
      std::array<Byte, EVP_MAX_MD_SIZE> digest{};
      unsigned length = 0;
      if (EVP_MD_CTX_copy_ex(so_far.get(), running.get()) != 1 ||
          EVP_DigestFinal_ex(so_far.get(), digest.data(), &length) != 1)
        return;
      const auto [begin, end] = places_.equal_range(value_at(digest, 0, 8, false));
      for (auto place = begin; place != end; ++place) {
        if (*to > place->second && from < place->second + size_) continue;
        Checksum checksum;
        checksum.form.kind = kind_;
        checksum.form.bits = static_cast<unsigned>(8 * size_);
        checksum.ranges = {{from, *to}};
        checksum.at = place->second;
        finds_.add(checksum,
                   {evidence_of(v_, checksum.at, size_), 1, static_cast<double>(places_.size()), false});
      }
    }
  }

  Finds& finds_;
  const Versions& v_;
  ChecksumForm::Kind kind_;
  const EVP_MD* how_;
  std::size_t size_;
  std::unordered_multimap<std::uint64_t, std::size_t> places_;  // by the first eight bytes
  std::vector<std::size_t> usual_;
};

}  // namespace

void search_digests(Finds& finds) {
  DigestSearch(finds, ChecksumForm::Kind::md5).run();
  DigestSearch(finds, ChecksumForm::Kind::sha1).run();
}

}  // namespace bayswap::checksums
