// What a shared library of Bay Swap shows to those who link it: what the public headers declare between these
// two, and nothing else. Belongs to bayswap::core.
#pragma once

#if defined(__GNUC__)
#define BAYSWAP_EXPORT_BEGIN _Pragma("GCC visibility push(default)")
#define BAYSWAP_EXPORT_END _Pragma("GCC visibility pop")
#else
#define BAYSWAP_EXPORT_BEGIN
#define BAYSWAP_EXPORT_END
#endif
