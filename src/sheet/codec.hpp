// Values as a save's bytes have them, and as people read and write them.
#pragma once

#include "sheet/model.hpp"

namespace bayswap::sheets {

/// The number in the bytes that hold it (NumberForm::size_bytes); nothing where it is no BCD.
[[nodiscard]] std::optional<SheetNumber> read_number(const NumberForm& form, ByteView bytes);
/// Writes it among the other bits of `bytes`. Fails with `does_not_fit` if it is out of range.
[[nodiscard]] Result<void> write_number(const NumberForm& form, SheetNumber value, std::span<Byte> bytes);
/// The least and the largest value that the bits and the sheet's own limits allow.
[[nodiscard]] std::pair<SheetNumber, SheetNumber> range_of(const NumberForm& form);

/// Codes without a character are written {4F}, and read so.
[[nodiscard]] std::string read_text(const TextForm& form, const FieldDef& field, ByteView bytes);
[[nodiscard]] Result<std::vector<Byte>> write_text(const TextForm& form, const FieldDef& field,
                                                   std::string_view text, std::size_t size_bytes);

/// A number as `set` takes it: "12.5", "caught, met", "2031-05-04 18:30:00", a name out of a table.
[[nodiscard]] std::string number_text(const Sheet& sheet, const NumberForm& form, SheetNumber value);
/// The same for people: names with their numbers.
[[nodiscard]] std::string number_shown(const Sheet& sheet, const NumberForm& form, SheetNumber value,
                                       std::string_view language);
/// Fails with `bad_usage`, and the choices, if the text is not a value of the field.
[[nodiscard]] Result<SheetNumber> number_from_text(const Sheet& sheet, const NumberForm& form,
                                                   std::string_view text);
[[nodiscard]] std::optional<bool> truth_from_text(std::string_view text);
/// Seconds since 1970 of "2031-05-04", with or without a time after it.
[[nodiscard]] std::optional<SheetNumber> time_from_text(std::string_view text);

[[nodiscard]] std::string hex_text(ByteView bytes);
[[nodiscard]] std::optional<std::vector<Byte>> bytes_from_hex(std::string_view text);

/// Takes the scrambles off, in their order; or puts them on, from the last to the first. `keys`: one for each
/// scramble. Fails with `damaged` if a key chooses an order that does not exist.
[[nodiscard]] Result<void> unscramble(const std::vector<Scramble>& scrambles,
                                      const std::vector<SheetNumber>& keys, std::span<Byte> bytes);
[[nodiscard]] Result<void> scramble(const std::vector<Scramble>& scrambles,
                                    const std::vector<SheetNumber>& keys, std::span<Byte> bytes);

}  // namespace bayswap::sheets
