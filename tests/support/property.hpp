// Properties as GoogleTest tests: rc::check with its report as the failure's text.
#pragma once

#include <gtest/gtest.h>
#include <rapidcheck.h>

#include <string>

namespace bayswap::test {

template <class Property>
void expect_property(const std::string& what, Property&& property) {
  EXPECT_TRUE(rc::check(what, std::forward<Property>(property))) << what;
}

}  // namespace bayswap::test
