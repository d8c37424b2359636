// A place with save states: what is in each of them, and what their battery saves are to those beside them.
#pragma once

#include <bayswap/content.hpp>
#include <bayswap/state_plan.hpp>

#include <map>
#include <mutex>

#include "bay/scan_memory.hpp"
#include "bay/tracing_store.hpp"
#include "cli/books.hpp"
#include "cli/last_answer.hpp"

namespace bayswap::cli {

/// What a state's battery save is to the one beside the state.
enum class Verdict { unknown, empty, battery_save, blank, alone, same, other, older, newer };
[[nodiscard]] std::string_view to_text(Verdict verdict);

/// Tells folders apart in the names of what is remembered of them.
[[nodiscard]] std::string short_digest(const std::string& text);

struct ListedState {
  const HeldState* state = nullptr;
  std::string platform;  // tag; empty where nothing tells
  std::string map;
  bool picture = false;
  Verdict verdict = Verdict::unknown;
};

/// The bay of that name, or the folder as one: files beside their ROMs.
[[nodiscard]] Result<Bay> bay_at(const Globals& globals, const std::string& name);

class StatePlace {
 public:
  [[nodiscard]] static Result<std::unique_ptr<StatePlace>> open(const Globals& globals, Bay bay);
  [[nodiscard]] static Result<std::unique_ptr<StatePlace>> open(const Globals& globals,
                                                                const std::string& name);

  [[nodiscard]] BayView& view() { return *view_; }
  [[nodiscard]] Store& store() { return *traced_; }
  [[nodiscard]] const Bay& bay() const { return bay_; }
  [[nodiscard]] Watched watched() const { return {bay_.root, traced_->trace()}; }

  /// Looks into each; what is found is remembered in the home folder.
  [[nodiscard]] Result<std::vector<ListedState>> look(const std::vector<HeldState>& states,
                                                      const StateMaps& maps);

  struct Beside {
    std::string path;
    std::string digest;
    std::int64_t modified = 0;
  };
  /// The battery save of the same game; none without a ROM that both are named after, or one stem.
  [[nodiscard]] const Beside& beside_of(const HeldState& state);

 private:
  struct Guards {
    std::mutex own;      // of what is not of one state: the store, the view, the memory
    std::mutex catalog;  // which reads its layouts on demand
  };
  [[nodiscard]] ScanRow row_of(const HeldState& state, const StateMaps& maps, Guards& guards);
  [[nodiscard]] Verdict verdict_of(const HeldState& state, const ScanRow& row);

  std::unique_ptr<Books> books_;
  Bay bay_;
  std::unique_ptr<Store> store_;
  std::unique_ptr<TracingStore> traced_;
  ScanMemory memory_;
  std::string memory_path_;
  std::unique_ptr<BayView> view_;
  std::map<std::string, Beside> beside_;
};

}  // namespace bayswap::cli
