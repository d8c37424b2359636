// plan_a_carry GAME FROM.toml TO.toml: prints what a carry between two bays would do, and does nothing.
#include <bayswap/carry.hpp>

#include <iostream>

int main(int argc, char** argv) {
  if (argc != 4) {
    std::cerr << "usage: plan_a_carry GAME FROM.toml TO.toml\n";
    return 2;
  }
  const bayswap::Catalog catalog;
  const bayswap::Home no_home;
  const auto from = bayswap::find_bay(no_home, argv[2]);
  const auto to = bayswap::find_bay(no_home, argv[3]);
  if (!from || !to) {
    std::cerr << (from ? to : from).error().message << "\n";
    return 1;
  }
  bayswap::LocalStore from_store(from->root);
  bayswap::LocalStore to_store(to->root);
  bayswap::LocalStore disk;
  bayswap::CarryRequest request;
  request.what = argv[1];
  const auto plan = bayswap::plan_carry(catalog, {&*from, &from_store}, {&*to, &to_store}, disk, request);
  if (!plan) {
    std::cerr << plan.error().message << "\n" << plan.error().hint << "\n";
    return 1;
  }
  for (const bayswap::Step& step : plan->steps) std::cout << step.action << ": " << step.text << "\n";
  for (const bayswap::PlanIssue& issue : plan->issues)
    std::cout << bayswap::to_text(issue.level) << ": " << issue.text << "\n";
  return plan->refusal() != nullptr ? 3 : 0;
}
