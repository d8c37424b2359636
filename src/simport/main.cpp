// bayswap-simport: a reader of cartridges that is not there. Opens a pseudo-terminal, prints its path, and
// speaks the line protocol over it; commands come on standard input, an answer each on standard output.
#include <fmt/format.h>
#include <getopt.h>
#include <poll.h>
#include <unistd.h>
#include <bayswap/fs.hpp>

#include <array>
#include <charconv>
#include <chrono>
#include <cstring>
#include <iostream>
#include <map>
#include <sstream>
#include <thread>

#include "simport/pty.hpp"
#include "simport/sim_slot.hpp"

namespace bayswap::simport {
namespace {

struct LineFaults {
  int lost = 0;  // of a hundred frames, in either direction
  int doubled = 0;
  int corrupted = 0;
  std::uint32_t rate = 0;  // bytes a second; 0: as fast as it goes
  int silence_ms = 250;
  int hurry = 1;  // chips are so many times as fast as real ones
};

class Program {
 public:
  Program(Pty pty, const LineFaults& faults, std::uint32_t seed)
      : pty_(std::move(pty)),
        faults_(faults),
        dice_(seed),
        reader_(slot_, "simulated reader", [this](const std::vector<Byte>& bytes) { send(bytes); }) {
    reader_.usual_rate = 1000000;
    reader_.silence_ms = static_cast<std::uint16_t>(faults.silence_ms);
    slot_.wait = [this](int ms) {
      const int step = std::max(1, faults_.silence_ms / 2);
      for (ms /= faults_.hurry; ms > 0; ms -= step) {
        std::this_thread::sleep_for(std::chrono::milliseconds(std::min(ms, step)));
        if (ms > step) reader_.still_at_it();
      }
    };
  }

  Result<void> insert(const std::string& folder) { return slot_.insert(folder); }
  /// Lines "BYTES COMMAND": done once so many bytes have come from the host.
  Result<void> take_script(const std::string& path) {
    LocalStore disk;
    auto text = disk.read(path, std::size_t{1} << 20);
    if (!text) return tl::unexpected(std::move(text.error()));
    std::istringstream lines(std::string(text->view().begin(), text->view().end()));
    for (std::string line; std::getline(lines, line);) {
      if (line.empty() || line.starts_with('#')) continue;
      std::istringstream words(line);
      std::size_t after = 0;
      std::string command;
      if (!(words >> after >> std::ws) || !std::getline(words, command))
        return fail(ErrorCode::bad_usage, fmt::format("{}: line '{}' can't be read", path, line),
                    "a line is a number of bytes and a command: 20000 remove");
      script_.emplace(after, command);
    }
    return {};
  }

  // Until it is told to quit.
  void run() {
    bool listening = true;
    while (!over_) {
      std::array<pollfd, 2> waiting{pollfd{pty_.fd(), POLLIN, 0},
                                    pollfd{listening ? STDIN_FILENO : -1, POLLIN, 0}};
      poll(waiting.data(), waiting.size(), reader_.is_reading() ? 0 : 500);
      if ((waiting[1].revents & (POLLIN | POLLHUP)) != 0) listening = take_commands();
      if ((waiting[0].revents & POLLIN) != 0) receive(pty_.read());
      if (!over_) reader_.go_on();
    }
  }

 private:
  // False once nobody commands any more.
  bool take_commands() {
    std::array<char, 4096> text{};
    const ssize_t came = ::read(STDIN_FILENO, text.data(), text.size());
    if (came <= 0) return false;
    typed_.append(text.data(), static_cast<std::size_t>(came));
    for (std::size_t end = typed_.find('\n'); end != std::string::npos; end = typed_.find('\n')) {
      const std::string line = typed_.substr(0, end);
      typed_.erase(0, end + 1);
      fmt::print("{}\n", obey(line));
      std::fflush(stdout);
    }
    return true;
  }

  std::string obey(const std::string& line) {
    std::istringstream words(line);
    std::string command;
    std::string rest;
    words >> command >> std::ws;
    std::getline(words, rest);
    const auto number = [&](int& into) {
      std::istringstream value(rest);
      return (value >> into) && into >= 0;
    };
    int rate = 0;
    bool good = true;
    if (command == "insert") {
      if (const auto done = slot_.insert(rest); !done) return "error: " + done.error().message;
    } else if (command == "remove") {
      slot_.remove();
    } else if (command == "seat") {
      good = rest == "well" || rest == "badly" || rest == "crooked";
      slot_.seat(rest == "badly"     ? SimSlot::Seat::badly
                 : rest == "crooked" ? SimSlot::Seat::crooked
                                     : SimSlot::Seat::well);
    } else if (command == "lost") {
      good = number(faults_.lost);
    } else if (command == "doubled") {
      good = number(faults_.doubled);
    } else if (command == "corrupted") {
      good = number(faults_.corrupted);
    } else if (command == "rate") {
      good = number(rate);
      faults_.rate = static_cast<std::uint32_t>(rate);
    } else if (command == "hang-up-after") {
      good = number(hang_up_after_);
    } else if (command == "ignore-writes") {
      good = number(rate) && slot_.cartridge() != nullptr && slot_.cartridge()->chip;
      if (good) slot_.cartridge()->chip->ignore_writes(rate);
    } else if (command == "quit") {
      over_ = true;
    } else {
      good = false;
    }
    return good ? "ok" : "error: no command: " + line;
  }

  bool happens(int percent) { return static_cast<int>(dice_() % 100) < percent; }

  void receive(std::vector<Byte> bytes) {
    came_ += bytes.size();
    while (!script_.empty() && script_.begin()->first <= came_) {
      const std::string line = script_.extract(script_.begin()).mapped();
      if (const std::string said = obey(line); said != "ok") fmt::print(stderr, "{}: {}\n", line, said);
    }
    // The plug is pulled: nothing of this is heard any more.
    if (hang_up_after_ >= 0) {
      hang_up_after_ -= static_cast<int>(bytes.size());
      if (hang_up_after_ < 0) {
        over_ = true;
        return;
      }
    }
    if (bytes.empty() || happens(faults_.lost)) return;
    if (happens(faults_.corrupted)) bytes[dice_() % bytes.size()] ^= static_cast<Byte>(1 + dice_() % 255);
    reader_.take(bytes);
    if (happens(faults_.doubled)) reader_.take(bytes);
  }

  void send(std::vector<Byte> bytes) {
    if (over_ || happens(faults_.lost)) return;
    if (happens(faults_.corrupted)) bytes[dice_() % bytes.size()] ^= static_cast<Byte>(1 + dice_() % 255);
    const int times = happens(faults_.doubled) ? 2 : 1;
    for (int i = 0; i < times; ++i) {
      if (faults_.rate > 0)
        std::this_thread::sleep_for(std::chrono::microseconds(bytes.size() * 1000000 / faults_.rate));
      if (!pty_.write(bytes)) over_ = true;
    }
  }

  Pty pty_;
  LineFaults faults_;
  std::mt19937 dice_;
  SimSlot slot_;
  Reader reader_;
  std::string typed_;
  std::multimap<std::size_t, std::string> script_;  // what to do once so many bytes have come
  std::size_t came_ = 0;
  int hang_up_after_ = -1;
  bool over_ = false;
};

}  // namespace
}  // namespace bayswap::simport

namespace {

struct Options {
  std::string cartridge;
  bayswap::simport::LineFaults faults;
  std::uint32_t seed = 2031;
  std::string script;
};

struct Option {
  const char* name;
  const char* value;
  const char* about;
  std::uint32_t least;
  std::uint32_t most;
};
constexpr std::array options{
    Option{"rate", "N", "Bytes a second; default: as fast as possible", 0, 1000000000},
    Option{"lost", "N", "Of a hundred frames so many are lost", 0, 100},
    Option{"doubled", "N", "Of a hundred frames so many come twice", 0, 100},
    Option{"corrupted", "N", "Of a hundred frames so many are damaged", 0, 100},
    Option{"silence", "MS", "It answers within so many milliseconds, or says that it is busy", 10, 5000},
    Option{"hurry", "N", "Chips are so many times as fast as real ones", 1, 1000},
    Option{"seed", "N", "For what happens by chance", 0, 0xffffffff},
    Option{"script", "FILE", "A file with lines \"BYTES COMMAND\": done once so many bytes have come", 0, 0},
};

void print_help() {
  fmt::print(
      "A simulated reader of cartridges, for trying things out and for tests\n"
      "Usage: bayswap-simport [OPTIONS] [CARTRIDGE]\n\n"
      "  CARTRIDGE          The folder of the cartridge that is in it\n\nOptions:\n"
      "  -h, --help         Print this help and exit\n");
  for (const Option& option : options)
    fmt::print("  {:<18} {}\n", fmt::format("--{} {}", option.name, option.value), option.about);
  fmt::print(
      "\nPrints the path of its line. Commands on standard input: insert DIR, remove,\n"
      "seat well|badly|crooked, lost N, doubled N, corrupted N, rate N,\n"
      "ignore-writes N, hang-up-after BYTES, quit. The line and the cartridge folders\n"
      "are described in docs/cart-protocol.md and docs/cartridges.md.\n");
}

int refuse(const std::string& what) {
  fmt::print(stderr, "bayswap-simport: {}\nWhat to do: see bayswap-simport --help\n", what);
  return 2;
}

// Stores the value of an option; false if it is no number, or out of its range.
bool set(Options& all, const Option& option, const char* text) {
  const std::string_view name = option.name;
  if (name == "script") {
    all.script = text;
    return true;
  }
  std::uint32_t number = 0;
  const char* end = text + std::strlen(text);
  const auto read = std::from_chars(text, end, number);
  if (read.ec != std::errc() || read.ptr != end || number < option.least || number > option.most)
    return false;
  if (name == "rate") all.faults.rate = number;
  if (name == "seed") all.seed = number;
  const std::array<std::pair<std::string_view, int*>, 5> counts{{{"lost", &all.faults.lost},
                                                                 {"doubled", &all.faults.doubled},
                                                                 {"corrupted", &all.faults.corrupted},
                                                                 {"silence", &all.faults.silence_ms},
                                                                 {"hurry", &all.faults.hurry}}};
  for (const auto& [key, into] : counts)
    if (key == name) *into = static_cast<int>(number);
  return true;
}

}  // namespace

int main(int argc, char** argv) {
  using namespace bayswap::simport;
  Options all;
  std::vector<option> known{{"help", no_argument, nullptr, 'h'}};
  for (const Option& option : options) known.push_back({option.name, required_argument, nullptr, 0});
  known.push_back({nullptr, 0, nullptr, 0});
  opterr = 0;
  int index = 0;
  for (int got = 0; (got = getopt_long(argc, argv, ":h", known.data(), &index)) != -1;) {
    if (got == 'h') {
      print_help();
      return 0;
    }
    if (got == ':') return refuse(fmt::format("{} needs a value", argv[optind - 1]));
    if (got != 0) return refuse(fmt::format("unknown option {}", argv[optind - 1]));
    const Option& option = options.at(static_cast<std::size_t>(index) - 1);
    if (!set(all, option, optarg))
      return refuse(fmt::format("--{} takes a number from {} to {}, not '{}'", option.name, option.least,
                                option.most, optarg));
  }
  if (argc - optind > 1) return refuse(fmt::format("unexpected argument '{}'", argv[optind + 1]));
  if (optind < argc) all.cartridge = argv[optind];
  const auto& [cartridge, faults, seed, script] = all;
  auto pty = Pty::open();
  if (!pty) {
    fmt::print(stderr, "bayswap-simport: {}\n", pty.error().message);
    return 5;
  }
  fmt::print("{}\n", pty->path());
  std::fflush(stdout);
  Program program(*std::move(pty), faults, seed);
  if (!cartridge.empty())
    if (const auto done = program.insert(cartridge); !done) {
      fmt::print(stderr, "bayswap-simport: {}\nWhat to do: {}\n", done.error().message, done.error().hint);
      return 4;
    }
  if (!script.empty())
    if (const auto done = program.take_script(script); !done) {
      fmt::print(stderr, "bayswap-simport: {}\nWhat to do: {}\n", done.error().message, done.error().hint);
      return 2;
    }
  program.run();
  return 0;
}
