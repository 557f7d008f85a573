// A static prefix code (Huffman, 1952) from how often each symbol is expected, in canonical form:
// the same weights give the same code on every machine. Pure.
#pragma once
#include <array>
#include <cstdint>
#include <optional>
#include <span>
#include <vector>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"

namespace kwind::replica {

class PrefixCode {
 public:
  /// No code is longer; where weights would ask for it they are made more alike.
  static constexpr unsigned kLongest = 24;

  /// Symbols are 0 to weights.size() - 1; one of weight 0 counts as of weight 1. Requires: one
  /// symbol at least. A single one takes no bits.
  explicit PrefixCode(std::span<const std::uint32_t> weights);

  /// From the length of each symbol's code; nothing if no prefix code has these, or if it leaves
  /// words without a symbol. A single symbol has length 0.
  static std::optional<PrefixCode> of_lengths(std::span<const std::uint8_t> lengths);

  struct Code {
    std::uint32_t code = 0;  ///< the first bit lowest
    std::uint8_t bits = 0;
    void write(bits::Writer& out) const { out.put(code, bits); }
  };

  [[nodiscard]] std::size_t symbols() const { return codes_.size(); }
  [[nodiscard]] const Code& code(std::size_t symbol) const { return codes_[symbol]; }
  [[nodiscard]] unsigned bits(std::size_t symbol) const { return codes_[symbol].bits; }
  void write(bits::Writer& out, std::size_t symbol) const { codes_[symbol].write(out); }
  /// Nothing past the end.
  [[nodiscard]] std::optional<std::size_t> read(bits::Reader& in) const {
    if (codes_.size() == 1) return 0;
    const Short& found = short_[in.peek(kShortBits)];
    if (found.bits == 0) return read_long(in);
    in.skip(found.bits);
    return in.ok() ? std::optional<std::size_t>(found.symbol) : std::nullopt;
  }

 private:
  // Most of what comes has so few bits, and is found by them at once.
  static constexpr unsigned kShortBits = 6;
  struct Short {
    std::uint16_t symbol = 0;
    std::uint8_t bits = 0;  // 0: a longer one
  };
  PrefixCode() = default;
  void assign(std::span<const std::uint8_t> lengths);
  [[nodiscard]] std::optional<std::size_t> read_long(bits::Reader& in) const;

  std::vector<Code> codes_;               // by symbol
  std::vector<std::uint16_t> ordered_;    // symbols by length, then by number
  std::vector<std::uint16_t> of_length_;  // how many
  std::array<Short, 1U << kShortBits> short_{};
};

}  // namespace kwind::replica
