// Writes datagrams into a pcapng file (draft-ietf-opsawg-pcapng), as IPv4 and UDP between two
// made-up addresses.
#pragma once
#include <cstdint>
#include <fstream>
#include <span>
#include <string>
#include <vector>

namespace kwind::kit {

class CaptureFile {
 public:
  explicit CaptureFile(const std::string& path) : out_(path, std::ios::binary) {
    block(0x0a0d0d0a, {u32(0x1a2b3c4d), u16(1), u16(0), u32(0xffffffff), u32(0xffffffff)});
    block(1, {u16(101), u16(0), u32(65535)});  // link type: raw IP
  }

  /// 10.0.0.1:`from` to 10.0.0.2:`to`, or back where `from` is less.
  void add(std::uint16_t from, std::uint16_t to, std::span<const std::byte> datagram) {
    const auto size = static_cast<std::uint16_t>(datagram.size());
    const auto whole = static_cast<std::uint16_t>(size + 28);
    const char client = from > to ? 1 : 2;
    std::string packet{0x45, 0};
    packet += big(whole) + big(0) + big(0) + std::string{64, 17, 0, 0, 10, 0, 0, client, 10, 0, 0};
    packet += static_cast<char>(3 - client);
    packet += big(from) + big(to) + big(static_cast<std::uint16_t>(size + 8)) + big(0);
    packet.append(reinterpret_cast<const char*>(datagram.data()), size);
    const std::string length = u32(whole);
    packet.resize((packet.size() + 3) / 4 * 4);
    ++packets_;
    block(6, {u32(0), u32(0), u32(packets_), length, length, packet});
    out_.flush();
  }

 private:
  static std::string little(std::uint64_t value, int bytes) {
    std::string out;
    for (int i = 0; i < bytes; ++i) out += static_cast<char>(value >> 8 * i & 0xff);
    return out;
  }
  static std::string u32(std::uint32_t value) { return little(value, 4); }
  static std::string u16(std::uint16_t value) { return little(value, 2); }
  static std::string big(std::uint16_t value) {
    return {static_cast<char>(value >> 8), static_cast<char>(value & 0xff)};
  }
  void block(std::uint32_t type, const std::vector<std::string>& parts) {
    std::string body;
    for (const std::string& part : parts) body += part;
    const std::string length = u32(static_cast<std::uint32_t>(body.size() + 12));
    out_ << u32(type) << length << body << length;
  }

  std::ofstream out_;
  std::uint32_t packets_ = 0;
};

}  // namespace kwind::kit
