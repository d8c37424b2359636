// carry WHAT FROM TO: carries a save between two places, and loses none: the old one is kept first, nothing
// is written while a program has it, and `carry undo` takes it back.
#include <bayswap/session.hpp>

#include <iostream>

template <class T>
T value_of(bayswap::Result<T> result) {
  if (result) return *std::move(result);
  std::cerr << result.error().message << "\n" << result.error().hint << "\n";
  std::exit(1);
}

int main(int argc, char** argv) {
  const auto session = value_of(bayswap::Session::open(value_of(bayswap::Home::of_user())));
  auto plan = value_of(argc == 4 ? session->carry(argv[1], argv[2], argv[3]) : session->undo());
  for (const auto& step : plan.plan().steps) std::cout << step.action << ": " << step.text << "\n";
  const auto entry = value_of(plan.run());
  std::cout << (entry ? "done: entry " + std::to_string(*entry) : "nothing to do") << "\n";
}
