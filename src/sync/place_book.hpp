// What each place of this device's bays held when it was last looked at.
#pragma once

#include <bayswap/history.hpp>

#include "base/path.hpp"

namespace bayswap {

struct HeldPlace {
  std::string bay;
  std::string key;              // of the save within the bay
  std::string label;            // what people call it
  std::string path;             // below the bay's root
  VersionId version;            // what it holds, or held
  std::string seen;             // hex digest of what it holds, which can be less than the version has
  std::string stamp;            // names, sizes and times of its files
  bool is_lost = false;         // gone, empty or damaged: the user is asked
  bool is_known_lost = false;   // and the user has seen that many are
  bool is_wanted_back = false;  // the user's answer was that it should not be
  bool is_unheard = false;      // new here: no sync folder was heard since
  // A write that is under way: what it will hold then.
  std::string coming;  // hex digest; empty: none
  VersionId coming_version;
  std::string banked;  // ids of other devices' versions that the logbook has in this place's form
};

/// Kept as one small file beside the replica. A lost one is no harm: places are known again by their content.
class PlaceBook {
 public:
  /// One that does not exist, or is damaged, is an empty book.
  [[nodiscard]] static Result<PlaceBook> load(Store& store);
  [[nodiscard]] Result<void> save(Store& store);

  [[nodiscard]] HeldPlace* find(const std::string& bay, const std::string& key);
  [[nodiscard]] std::vector<HeldPlace*> of_bay(const std::string& bay);
  void set(HeldPlace place);
  void remove(const std::string& bay, const std::string& key);
  [[nodiscard]] const std::map<std::pair<std::string, std::string>, HeldPlace>& places() const {
    return places_;
  }
  void touch() { is_changed_ = true; }

  /// A bay in which nothing was open when it was last looked at: what was looked at, and what was known.
  struct Rest {
    std::string trace;  // see TracingStore
    Digest knowledge;
    Digest rules;  // of the bay file
  };
  [[nodiscard]] const Rest* rest_of(const std::string& bay) const;
  void set_rest(const std::string& bay, std::optional<Rest> rest);

 private:
  std::map<std::pair<std::string, std::string>, HeldPlace> places_;
  std::map<std::string, Rest> rests_;
  bool is_changed_ = false;
};

}  // namespace bayswap
