// A request over the C interface: any bytes are an object, or an error; what is asked for has its type, or
// end() says so.
#include "c/request.hpp"
#include "fuzz.hpp"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  const std::string text(reinterpret_cast<const char*>(data), size);
  auto request = bayswap::c::Request::parse(text.c_str());
  if (!request) return 0;
  const std::string what = request->text("what");
  const std::int64_t entry = request->number("entry", 7);
  (void)request->flag("exact");
  const auto codes = request->texts("accept");
  if (request->end())
    bayswap::fuzz::require(what.find('\0') == std::string::npos && (request->has("entry") || entry == 7) &&
                           (request->has("accept") || codes.empty()));
  return 0;
}
