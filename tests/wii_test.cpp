// The wii avatar database.
#include <bayswap/package.hpp>

#include "base/checksum.hpp"
#include "base/endian.hpp"
#include "support/builders.hpp"
#include "support/property.hpp"

namespace bayswap::test {
namespace {

TEST(AvatarDatabase, IsToldByItsMagicAndItsChecksum) {
  std::vector<Byte> file(779968);
  std::ranges::copy(std::string_view("RNOD"), file.begin());
  file[4] = 1;
  file[4 + 74 * 99] = 1;
  EXPECT_TRUE(avatar_database_problem(file));
  put_be16(file, 0x1F1DE, crc16_ccitt(ByteView(file).first(0x1F1DE)));
  EXPECT_FALSE(avatar_database_problem(file));
  EXPECT_EQ(avatars_in(file), 2U);
  file[700] ^= 1;
  EXPECT_TRUE(avatar_database_problem(file)->find("checksum") != std::string::npos);
  EXPECT_FALSE(is_avatar_database(ByteView(file).first(1000)));
  EXPECT_TRUE(avatar_database_problem(ByteView(file).first(779967)));
}

}  // namespace
}  // namespace bayswap::test
