// Writes captures and key logs as they come; keys are readable by their owner alone.
#include "capture/files.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <chrono>

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

// Virtual times become times of day by the time at which the capture began.
void CaptureFile::add(Time at, const Endpoint& from, const Endpoint& to,
                      std::span<const std::byte> datagram) {
  capture::Packet packet{unix_ns_at_zero_ + at.time_since_epoch().count(), from, to, {}};
  packet.payload.assign(datagram.begin(), datagram.end());
  out_ << capture::pcapng_packet(packet);
  ++packets_;
  bytes_ += datagram.size();
}

// A sentence if the file could not be written, else "".
std::string CaptureFile::problem() {
  out_.flush();
  return out_.good()
             ? std::string()
             : fmt::format("{}: cannot be written; is there such a folder, and room?", path_);
}

// A pipe or a device at the path is written to and not replaced; a symbolic link is refused.
KeyLogFile::KeyLogFile(const std::string& path)
    // Keys are for their owner alone: the file is made with mode 0600, and a link is not followed.
    : path_(path), fd_(::open(path.c_str(), O_WRONLY | O_CREAT | O_NOFOLLOW | O_CLOEXEC, 0600)) {
  struct stat found {};
  good_ = fd_ >= 0 && ::fstat(fd_, &found) == 0;
  if (!good_ || !S_ISREG(found.st_mode)) return;
  // An old file would keep its permissions.
  good_ = ::fchmod(fd_, 0600) == 0 && ::ftruncate(fd_, 0) == 0;
}

KeyLogFile::~KeyLogFile() {
  if (fd_ >= 0) ::close(fd_);
}

// Written at once: keys must be there when the capture is read, even after a crash.
void KeyLogFile::add(const link::KeyNote& note) {
  const std::string line = capture::key_line(note);
  std::size_t done = 0;
  while (good_ && done < line.size()) {
    const ssize_t wrote = ::write(fd_, line.data() + done, line.size() - done);
    if (wrote < 0 && errno == EINTR) continue;
    good_ = wrote > 0;
    if (good_) done += static_cast<std::size_t>(wrote);
  }
}

std::string KeyLogFile::problem() {
  return good_ ? std::string()
               : fmt::format(
                     "{}: cannot be written; is there such a folder, and room? A link is "
                     "not followed",
                     path_);
}

}  // namespace kwind::tool
