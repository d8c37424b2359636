// Properties as GoogleTest tests: rc::check with its report as the failure's text.
#pragma once

#include <gtest/gtest.h>
#include <rapidcheck.h>

#include <rapidcheck/detail/TestParams.h>

#include <sstream>
#include <string>

namespace bayswap::test {

inline std::string report_of(const rc::detail::TestResult& result) {
  std::ostringstream text;
  rc::detail::printResultMessage(result, text);
  return text.str();
}

template <class Property>
void expect_property(const std::string& what, Property&& property) {
  EXPECT_TRUE(rc::check(what, std::forward<Property>(property))) << what;
}

/// The same with so many examples, whatever is usual.
template <class Property>
void expect_property_of(int examples, const std::string& what, Property&& property) {
  rc::detail::TestParams params = rc::detail::configuration().testParams;
  params.maxSuccess = examples;
  rc::detail::TestMetadata metadata;
  metadata.description = what;
  const auto result = rc::detail::checkTestable(std::forward<Property>(property), metadata, params);
  EXPECT_TRUE(result.template is<rc::detail::SuccessResult>()) << what << ": " << report_of(result);
}

}  // namespace bayswap::test
