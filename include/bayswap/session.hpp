// A session: the home folder locked, recovered and open, and plans that keep the promise when they run.
// Belongs to bayswap::bayswap.
#pragma once

#include <bayswap/address.hpp>
#include <bayswap/bay_view.hpp>
#include <bayswap/carry.hpp>
#include <bayswap/export.hpp>
#include <bayswap/logbook.hpp>
#include <bayswap/title.hpp>

BAYSWAP_EXPORT_BEGIN
namespace bayswap {

/// How far a long piece of work has come.
struct ProgressEvent {
  enum class What { reading, checking, writing };
  What what{};
  std::string label;      // the file that is read, the save that is written
  std::size_t done = 0;   // files or saves
  std::size_t total = 0;  // 0: not known
};
[[nodiscard]] std::string_view to_text(ProgressEvent::What what);
/// Returns false to cancel: the work then ends with `cancelled`, between two files or two saves and never
/// within one. May be called by one of several threads, by one at a time.
using Progress = std::function<bool(const ProgressEvent&)>;

/// What a session tells while it opens and waits. Each may be empty.
struct SessionEvents {
  std::function<void()> waits;                           // another process has the home folder
  std::function<void(const Recovered&)> recovered;       // an entry that a dead process had left open
  std::function<void(const std::string& home)> is_copy;  // it can't be written: a copy of its records is read
  std::function<void(const Error&)> left_out;  // a layout file that can't be read, a book that can't be kept
};

struct SessionOptions {
  Clock clock;            // empty: the system's
  int lock_seconds = 10;  // how long another process is waited for
  SessionEvents events;
};

/// The logbook, locked against other processes as long as this lives. Entries that a dead process left open
/// are settled when it opens. Not for several threads at once.
class LockedLogbook {
 public:
  /// Makes the home folder if there is none. Fails with `busy` if another process keeps it.
  [[nodiscard]] static Result<std::unique_ptr<LockedLogbook>> open(const Home& home, SessionOptions options);
  /// The same to look at it: a home folder that can't be written is read from its records.
  [[nodiscard]] static Result<std::unique_ptr<LockedLogbook>> open_to_read(const Home& home,
                                                                           SessionOptions options);
  /// The same without a lock and without a trace on the disk; nullptr if there is none yet.
  [[nodiscard]] static Result<std::unique_ptr<LockedLogbook>> look(const Home& home);
  [[nodiscard]] Logbook& book() { return *book_; }
  /// Lets other processes use the home folder for a while: for what waits on a server. The logbook must not
  /// be used until resume() has returned. Neither does anything where there is no lock.
  [[nodiscard]] Result<void> rest();
  /// Fails with `busy` if another process keeps the home folder.
  [[nodiscard]] Result<void> resume();

 private:
  explicit LockedLogbook(const Home& home)
      : home_(home), store_(home.data, LocalStore::Privacy::owner_only) {}
  Home home_;
  std::optional<SessionOptions> options_;  // nothing: opened without a lock
  std::optional<FileLock> lock_;
  LocalStore store_;
  std::optional<Logbook> book_;
};

/// Fails with `unsafe` where a cartridge is read so badly that its old bytes could not be kept.
[[nodiscard]] Result<void> check_contacts(const Plan& plan, Store& target);

/// A place that was opened by its bay's name or its path. Its parts point at each other: not to be moved.
struct OpenPlace {
  Bay bay;
  bool is_place = false;  // no bay of the home folder: a place that was looked at, for this once
  std::unique_ptr<Store> store;
  std::unique_ptr<Store> watched;  // the same, for what only reads: it tells the Progress of look()
  std::unique_ptr<BayView> view;   // over `watched`

  /// Returns every save of the place, as BayView::saves(). Fails with `cancelled` if that was: a part is
  /// never returned as if it were all.
  [[nodiscard]] Result<const std::vector<HeldSave>*> saves(
      BayView::Depth depth = BayView::Depth::whole) const;
};

class Session;

/// A plan with the stores it is for. It keeps its session's promise when it runs: the old bytes first, one
/// change at a time, nothing while a program has the files. The session must outlive it.
class SessionPlan {
 public:
  [[nodiscard]] const Plan& plan() const { return plan_; }
  /// Turns refusals of that kind into warnings, where a user may decide so (is_acceptable()).
  void accept(IssueCode code);
  /// Runs it, once. Returns the logbook's entry; nothing if there was nothing to change. Fails with the code
  /// of the refusal (`unsafe` unless it has its own) if the plan is refused, `busy` while a program uses a
  /// file that it changes, and as run() does. What the plan taught is kept.
  /// Cancelled by `progress`, which is asked once before anything is written, it fails with `cancelled`.
  [[nodiscard]] Result<std::optional<std::int64_t>> run(const Progress& progress = {});

 private:
  friend class Session;
  SessionPlan(Session& session, Plan plan, std::vector<std::shared_ptr<OpenPlace>> places,
              std::shared_ptr<Store> target)
      : session_(&session), plan_(std::move(plan)), places_(std::move(places)), target_(std::move(target)) {}
  Session* session_;
  Plan plan_;
  std::vector<std::shared_ptr<OpenPlace>> places_;
  std::shared_ptr<Store> target_;
};

/// Every save of a place that differs, one plan each, run under the same promise. The session must outlive
/// it.
class SessionBatch {
 public:
  /// The rows, with what became of each once it has run.
  [[nodiscard]] const Batch& batch() const { return batch_; }
  /// Runs what is to be carried, once. A save that fails, or that a program uses, stops no other; its row
  /// says why. `progress` is asked before each group of saves: after it returned false the saves that are
  /// left fail with `cancelled` in their rows, and so does the call. What the plans that ran taught is kept.
  [[nodiscard]] Result<void> run(const Progress& progress = {});

 private:
  friend class Session;
  SessionBatch(Session& session, Batch batch, std::vector<std::shared_ptr<OpenPlace>> places,
               std::shared_ptr<Store> target)
      : session_(&session),
        batch_(std::move(batch)),
        places_(std::move(places)),
        target_(std::move(target)) {}
  Session* session_;
  Batch batch_;
  std::vector<std::shared_ptr<OpenPlace>> places_;
  std::shared_ptr<Store> target_;
};

/// The home folder of a user, open. Several sessions wait for each other. Not for several threads at once.
class Session {
 public:
  /// Locks the home folder, settles what a dead process left open, and reads the books.
  [[nodiscard]] static Result<std::unique_ptr<Session>> open(const Home& home, SessionOptions options = {});
  ~Session();
  Session(const Session&) = delete;
  Session& operator=(const Session&) = delete;

  [[nodiscard]] const Home& home() const;
  [[nodiscard]] const Catalog& catalog() const;
  [[nodiscard]] Logbook& logbook();
  /// Opens a place: a bay's name, the path of a bay file, a folder, a card image, an archive, a save, a URL.
  /// Nothing is read of it yet: `progress` is called by what reads of the place later.
  [[nodiscard]] Result<std::shared_ptr<OpenPlace>> look(const std::string& place, Progress progress = {});

  /// A request with all that the books know, to be completed by the caller. Valid as long as the session.
  [[nodiscard]] CarryRequest request();
  /// Plans a carry of what `request.what` names; see plan_carry.
  [[nodiscard]] Result<SessionPlan> carry(const CarryRequest& request, const std::string& from,
                                          const std::string& to);
  [[nodiscard]] Result<SessionPlan> carry(const std::string& what, const std::string& from,
                                          const std::string& to);
  /// Plans to carry every save that differs; see plan_all. Fails with `bad_usage`, and the accounts to choose
  /// from in the remedy, where an account has to be said.
  [[nodiscard]] Result<SessionBatch> carry_all(const CarryRequest& request, const std::string& from,
                                               const std::string& to, Progress progress = {});
  /// Plans to take over a save from the file, archive or folder `request.what`; see find_candidates and
  /// plan_file_carry. `game`: what the user calls it; may be empty. Fails with `unsafe`, and the likeliest in
  /// the remedy, if none is clearly the likeliest.
  [[nodiscard]] Result<SessionPlan> carry_file(const CarryRequest& request, const std::string& to,
                                               const std::string& game = {});
  /// Keeps the saves and states of a place in the logbook as they are: those that `what` names, or all; see
  /// backup_saves.
  [[nodiscard]] Result<std::vector<BackedUpSave>> backup(const std::string& place,
                                                         const std::string& what = {},
                                                         Progress progress = {});
  /// Plans to take an entry back: the newest one that can be, or that one; see plan_undo.
  [[nodiscard]] Result<SessionPlan> undo(std::optional<std::int64_t> entry = {});
  /// Plans to bring back what an entry wrote, or what was there before; see plan_restore.
  [[nodiscard]] Result<SessionPlan> restore(std::int64_t entry, bool before = false);

  /// Lets other processes use the home folder until resume(); see LockedLogbook. Running a plan resumes by
  /// itself.
  [[nodiscard]] Result<void> rest();
  [[nodiscard]] Result<void> resume();

 private:
  friend class SessionPlan;
  friend class SessionBatch;
  struct Impl;
  explicit Session(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

}  // namespace bayswap
BAYSWAP_EXPORT_END
