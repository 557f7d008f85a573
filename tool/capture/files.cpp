#include "capture/files.h"

#include <fmt/format.h>
#include <sys/stat.h>

#include <chrono>
#include <filesystem>

#include "kwind/capture/key_log.h"
#include "kwind/capture/pcapng.h"
#include "kwind/io/clock.h"

namespace kwind::tool {

CaptureFile::CaptureFile(const std::string& path, const std::string& comment)
    : path_(path),
      out_(path, std::ios::binary),
      unix_ns_at_zero_(std::chrono::duration_cast<std::chrono::nanoseconds>(
                           std::chrono::system_clock::now().time_since_epoch())
                           .count() -
                       io::now().time_since_epoch().count()) {
  out_ << capture::pcapng_start(comment);
}

void CaptureFile::add(Time at, const Endpoint& from, const Endpoint& to,
                      std::span<const std::byte> datagram) {
  capture::Packet packet{unix_ns_at_zero_ + at.time_since_epoch().count(), from, to, {}};
  packet.payload.assign(datagram.begin(), datagram.end());
  out_ << capture::pcapng_packet(packet);
  ++packets_;
  bytes_ += datagram.size();
}

std::string CaptureFile::problem() {
  out_.flush();
  return out_.good()
             ? std::string()
             : fmt::format("{}: cannot be written; is there such a folder, and room?", path_);
}

KeyLogFile::KeyLogFile(const std::string& path) : path_(path) {
  const mode_t before = ::umask(077);
  std::error_code ignored;
  std::filesystem::remove(path, ignored);  // an old file would keep its permissions
  out_.open(path);
  ::umask(before);
}

void KeyLogFile::add(const link::KeyNote& note) {
  out_ << capture::key_line(note) << std::flush;
}

std::string KeyLogFile::problem() {
  return out_.good()
             ? std::string()
             : fmt::format("{}: cannot be written; is there such a folder, and room?", path_);
}

}  // namespace kwind::tool
