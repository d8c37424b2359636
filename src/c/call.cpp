// Any command of the tool, as a process of its own: what the library has no function for.
#include <fcntl.h>
#include <fmt/format.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <csignal>
#include <cstdlib>
#include <cstring>

#include "base/text.hpp"
#include "base/try.hpp"
#include "c/handles.hpp"
#include "c/request.hpp"

extern char** environ;

namespace bayswap::c {
namespace {

class Descriptor {
 public:
  explicit Descriptor(int number = -1) : number_(number) {}
  ~Descriptor() { close(); }
  Descriptor(const Descriptor&) = delete;
  Descriptor& operator=(const Descriptor&) = delete;
  [[nodiscard]] int get() const { return number_; }
  void set(int number) { number_ = number; }
  void close() {
    if (number_ >= 0) ::close(number_);
    number_ = -1;
  }

 private:
  int number_;
};

struct Finished {
  int code = 0;  // of the process; 128 and the signal where one ended it
  bool is_cancelled = false;
  std::string out;
  std::string err;
};

Result<void> make_pipe(Descriptor& reads, Descriptor& writes) {
  std::array<int, 2> ends{};
  if (pipe2(ends.data(), O_CLOEXEC) != 0)
    return fail(ErrorCode::io, fmt::format("a pipe can't be made: {}", std::strerror(errno)),
                "close other programs");
  reads.set(ends[0]);
  writes.set(ends[1]);
  return {};
}

Result<Finished> ran(const std::vector<std::string>& words, const std::vector<std::string>& environment,
                     const std::function<bool()>& goes_on) {
  Descriptor out;
  Descriptor out_end;
  Descriptor err;
  Descriptor err_end;
  BAYSWAP_CHECK(make_pipe(out, out_end));
  BAYSWAP_CHECK(make_pipe(err, err_end));
  std::vector<char*> argv;
  argv.reserve(words.size() + 1);
  for (const std::string& word : words) argv.push_back(const_cast<char*>(word.c_str()));
  argv.push_back(nullptr);
  std::vector<char*> envp;
  envp.reserve(environment.size() + 1);
  for (const std::string& one : environment) envp.push_back(const_cast<char*>(one.c_str()));
  envp.push_back(nullptr);
  posix_spawn_file_actions_t actions;
  posix_spawn_file_actions_init(&actions);
  posix_spawn_file_actions_addopen(&actions, STDIN_FILENO, "/dev/null", O_RDONLY, 0);
  posix_spawn_file_actions_adddup2(&actions, out_end.get(), STDOUT_FILENO);
  posix_spawn_file_actions_adddup2(&actions, err_end.get(), STDERR_FILENO);
  pid_t child = 0;
  const int failed = posix_spawnp(&child, argv[0], &actions, nullptr, argv.data(), envp.data());
  posix_spawn_file_actions_destroy(&actions);
  if (failed != 0)
    return fail(ErrorCode::not_found,
                fmt::format("the program {} can't be started: {}", words.front(), std::strerror(failed)),
                "install the package bayswap, or name the program in BAYSWAP_TOOL");
  out_end.close();
  err_end.close();
  Finished finished;
  constexpr std::size_t most = std::size_t{256} << 20;
  constexpr int tick_ms = 100;
  std::array<char, 65536> piece{};
  while (out.get() >= 0 || err.get() >= 0) {
    std::array<pollfd, 2> ends{pollfd{out.get(), POLLIN, 0}, pollfd{err.get(), POLLIN, 0}};
    (void)poll(ends.data(), ends.size(), tick_ms);
    for (std::size_t i = 0; i < ends.size(); ++i) {
      Descriptor& end = i == 0 ? out : err;
      std::string& text = i == 0 ? finished.out : finished.err;
      if (end.get() < 0 || ends.at(i).revents == 0) continue;
      const ssize_t got = read(end.get(), piece.data(), piece.size());
      if (got > 0 && text.size() < most)
        text.append(piece.data(), static_cast<std::size_t>(got));
      else if (got == 0 || (got < 0 && errno != EINTR && errno != EAGAIN))
        end.close();
    }
    if (!finished.is_cancelled && !goes_on()) {
      finished.is_cancelled = true;
      kill(child, SIGINT);
    }
  }
  int status = 0;
  while (waitpid(child, &status, 0) < 0 && errno == EINTR) {
  }
  constexpr int by_signal = 128;
  finished.code = WIFEXITED(status) ? WEXITSTATUS(status) : by_signal + WTERMSIG(status);
  return finished;
}

std::vector<std::string> environment_with(const std::string& home) {
  std::vector<std::string> list;
  for (char** one = environ; one != nullptr && *one != nullptr; ++one)
    if (home.empty() || std::strncmp(*one, "BAYSWAP_HOME=", 13) != 0) list.emplace_back(*one);
  if (!home.empty()) list.push_back("BAYSWAP_HOME=" + home);
  return list;
}

ErrorCode code_from(const std::string& word, int exit_code) {
  for (int code = 0; code <= static_cast<int>(ErrorCode::cancelled); ++code)
    if (to_text(static_cast<ErrorCode>(code)) == word) return static_cast<ErrorCode>(code);
  if (word == "interrupted") return ErrorCode::cancelled;
  constexpr int usage = 2;
  constexpr int refused = 3;
  return exit_code == usage ? ErrorCode::bad_usage : exit_code == refused ? ErrorCode::unsafe : ErrorCode::io;
}

// The document, or why there is none.
Result<std::string> answer_of(const Finished& finished) {
  const auto document = nlohmann::json::parse(finished.out, nullptr, false);
  if (finished.is_cancelled)
    return fail(ErrorCode::cancelled, "the command was interrupted", "every save is whole; run it again");
  const auto error = document.is_object() ? document.find("error") : document.end();
  if (error != document.end() && error->is_object()) {
    const auto text = [&](const char* key) {
      const auto value = error->find(key);
      return value != error->end() && value->is_string() ? value->get<std::string>() : std::string();
    };
    return fail(code_from(text("code"), finished.code), text("message"), text("remedy"));
  }
  constexpr int problems = 1;  // the document tells which
  if (finished.code <= problems && !document.is_discarded()) return finished.out;
  return fail(code_from("", finished.code),
              fmt::format("the command ended with code {}: {}", finished.code,
                          printable(finished.err.substr(0, 2000))),
              "try it in a terminal");
}

}  // namespace
}  // namespace bayswap::c

using namespace bayswap;     // NOLINT(google-build-using-namespace): the functions are C's, outside of any
using namespace bayswap::c;  // NOLINT(google-build-using-namespace)

extern "C" bsw_status bsw_call(bsw_home* home, const char* command, const char* request, bsw_event event,
                               void* user, char** json) {
  return guarded([&]() -> Result<void> {
    BAYSWAP_CHECK(needed({home, command, json}));
    BAYSWAP_TRY(Request asked, Request::parse(request));
    const std::vector<std::string> arguments = asked.texts("arguments");
    BAYSWAP_CHECK(asked.end());
    const char* const said = std::getenv("BAYSWAP_TOOL");
    std::vector<std::string> words{said != nullptr && *said != '\0' ? said : "bayswap"};
    for (std::string_view rest = command; !rest.empty();) {
      const std::size_t space = std::min(rest.find(' '), rest.size());
      if (space > 0) words.emplace_back(rest.substr(0, space));
      rest.remove_prefix(std::min(space + 1, rest.size()));
    }
    if (words.size() == 1 || words[1].starts_with('-'))
      return fail(ErrorCode::bad_usage, fmt::format("'{}' is not a command", printable(command)),
                  "pass its words, e.g. \"bay list\", and everything else as arguments");
    words.emplace_back("--json");
    words.insert(words.end(), arguments.begin(), arguments.end());
    BAYSWAP_TRY(const auto use, HomeUse::begin(*home->state));
    BAYSWAP_CHECK(home->state->session->rest());
    const std::string at = Json{{"event", "running"}, {"label", command}, {"done", 0}, {"total", 0}}.line();
    const auto finished = ran(words, environment_with(home->state->folder),
                              [&] { return event == nullptr || event(user, at.c_str()) != 0; });
    BAYSWAP_CHECK(home->state->session->resume());
    if (!finished) return tl::unexpected(finished.error());
    BAYSWAP_TRY(const std::string answer, answer_of(*finished));
    char* const text = strdup(answer.c_str());
    if (text == nullptr) throw std::bad_alloc();
    *json = text;
    return {};
  });
}
