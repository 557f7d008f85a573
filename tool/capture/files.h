// A capture and its keys on disk, written as they come. One thread.
#pragma once
#include <fstream>
#include <string>

#include "kwind/core/endpoint.h"
#include "kwind/core/time.h"
#include "kwind/link/spec.h"

namespace kwind::tool {

class CaptureFile {
 public:
  /// Starts the file; `comment` says what it is. problem() tells whether that went well.
  CaptureFile(const std::string& path, const std::string& comment);

  /// A datagram that passed at `at`, which is of io::now().
  void add(Time at, const Endpoint& from, const Endpoint& to, std::span<const std::byte> datagram);
  [[nodiscard]] std::uint64_t packets() const { return packets_; }
  [[nodiscard]] std::uint64_t bytes() const { return bytes_; }
  /// What is wrong with the file, in a sentence; empty if nothing is.
  [[nodiscard]] std::string problem();

 private:
  std::string path_;
  std::ofstream out_;
  std::int64_t unix_ns_at_zero_;
  std::uint64_t packets_ = 0;
  std::uint64_t bytes_ = 0;
};

/// Keys for opening a capture later, readable by their owner alone.
class KeyLogFile {
 public:
  explicit KeyLogFile(const std::string& path);
  ~KeyLogFile();
  KeyLogFile(const KeyLogFile&) = delete;
  KeyLogFile& operator=(const KeyLogFile&) = delete;
  void add(const link::KeyNote& note);
  [[nodiscard]] std::string problem();

 private:
  std::string path_;
  int fd_;
  bool good_ = false;
};

}  // namespace kwind::tool
