// BAYSWAP_TRY(auto value, call()): value out of a Result, or return its error.
#pragma once

#include <bayswap/base.hpp>
#include <utility>

#define BAYSWAP_JOIN2(a, b) a##b
#define BAYSWAP_JOIN(a, b) BAYSWAP_JOIN2(a, b)
#define BAYSWAP_TRY_IMPL(tmp, decl, expr)                                    \
  auto tmp = (expr);                                                         \
  if (!tmp) return tl::unexpected<::bayswap::Error>(std::move(tmp.error())); \
  decl = std::move(*tmp)
#define BAYSWAP_TRY(decl, expr) BAYSWAP_TRY_IMPL(BAYSWAP_JOIN(try_result_, __LINE__), decl, expr)
#define BAYSWAP_CHECK(expr)                                                     \
  do {                                                                          \
    if (auto check_result = (expr); !check_result)                              \
      return tl::unexpected<::bayswap::Error>(std::move(check_result.error())); \
  } while (false)
