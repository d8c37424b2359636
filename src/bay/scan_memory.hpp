// The rows of a ScanMemory.
#pragma once

#include <bayswap/bay_saves.hpp>

#include <unordered_map>

namespace bayswap {

/// What a scan read of one save.
struct ScanRow {
  std::string label;
  Health health = Health::good;
  std::string health_note;
  std::string code;
  std::string platform;  // tag, of a file that several rules fit
  bool thumbnail = false;
};

struct ScanMemory::Rows {
  std::unordered_map<std::string, ScanRow> known;  // by path, size and time
  std::unordered_map<std::string, ScanRow> seen;   // by the scans since
  bool changed = false;

  [[nodiscard]] const ScanRow* find(const std::string& key) const;
  void add(const std::string& key, ScanRow row);
  /// Returns the labels of the saves, each once, in order.
  [[nodiscard]] std::vector<std::string> labels() const;
};

}  // namespace bayswap
