// The system calls of a server alone: as many bytes to as many sockets, without a link, with or
// without a cipher. What benchmarks of sending stand beside.
#pragma once
#include <arpa/inet.h>
#include <sodium.h>
#include <sys/resource.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <ctime>
#include <memory>
#include <vector>

#include "kwind/io/udp_transport.h"

namespace kwind::bench {

inline constexpr std::size_t kClients = 1000;
inline constexpr std::size_t kBatch = 64;       // datagrams in one call, as UdpTransport does it
inline constexpr std::size_t kMaxBytes = 1500;  // of a datagram

/// CPU time of this thread.
inline double cpu_seconds() {
  timespec time{};
  ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &time);
  return static_cast<double>(time.tv_sec) + 1e-9 * static_cast<double>(time.tv_nsec);
}

inline double median(std::vector<double> values) {
  const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
  std::nth_element(values.begin(), middle, values.end());
  return *middle;
}

/// The arguments of such benchmarks.
enum Mode : int { plaintext, chacha, aes };

/// Sends to kClients sockets of its own, each datagram encrypted first unless `mode` is plaintext.
class Bare {
 public:
  explicit Bare(Mode mode) : mode_(mode), fd_(::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0)) {
    rlimit files{};
    ::getrlimit(RLIMIT_NOFILE, &files);
    files.rlim_cur = files.rlim_max;
    ::setrlimit(RLIMIT_NOFILE, &files);
    for (std::size_t i = 0; i < kClients; ++i) {
      sinks_.push_back(std::move(*io::UdpTransport::open(Endpoint::loopback(0))));
      sockaddr_in to{};
      to.sin_family = AF_INET;
      to.sin_port = htons(sinks_.back()->local().port);
      to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
      to_.push_back(to);
      std::array<unsigned char, 32> key{};
      randombytes_buf(key.data(), key.size());
      keys_.push_back(key);
      schedules_.emplace_back();
      if (mode == aes) crypto_aead_aes256gcm_beforenm(&schedules_.back(), key.data());
    }
  }
  ~Bare() { ::close(fd_); }
  Bare(const Bare&) = delete;
  Bare& operator=(const Bare&) = delete;

  /// Requires: at most kMaxBytes.
  void send(std::size_t bytes) {
    for (std::size_t first = 0; first < kClients; first += kBatch) {
      const std::size_t count = std::min(kBatch, kClients - first);
      for (std::size_t i = 0; i < count; ++i) {
        if (mode_ != plaintext) seal(first + i, buffers_[i], bytes - 16);
        pieces_[i] = {buffers_[i].data(), bytes};
        headers_[i].msg_hdr = {&to_[first + i], sizeof(sockaddr_in), &pieces_[i], 1, nullptr, 0, 0};
      }
      for (std::size_t done = 0; done < count;) {
        const int sent = ::sendmmsg(fd_, headers_.data() + done,
                                    static_cast<unsigned>(count - done), MSG_DONTWAIT);
        if (sent > 0) done += static_cast<std::size_t>(sent);
      }
    }
    ++nonce_[0];
  }
  [[nodiscard]] Endpoint address(std::size_t client) const { return sinks_[client]->local(); }
  /// What arrived is thrown away.
  void drain() {
    for (const auto& sink : sinks_) {
      while (sink->receive(Time{})) {
      }
    }
  }

 private:
  void seal(std::size_t client, std::array<unsigned char, kMaxBytes>& out, std::size_t bytes) {
    unsigned long long size = 0;
    if (mode_ == aes) {
      crypto_aead_aes256gcm_encrypt_afternm(out.data(), &size, plain_.data(), bytes, nullptr, 0,
                                            nullptr, nonce_.data(), &schedules_[client]);
    } else {
      crypto_aead_chacha20poly1305_ietf_encrypt(out.data(), &size, plain_.data(), bytes, nullptr, 0,
                                                nullptr, nonce_.data(), keys_[client].data());
    }
  }

  Mode mode_;
  int fd_;
  std::vector<std::unique_ptr<io::UdpTransport>> sinks_;
  std::vector<sockaddr_in> to_;
  std::vector<std::array<unsigned char, 32>> keys_;
  std::vector<crypto_aead_aes256gcm_state> schedules_;
  std::array<unsigned char, 12> nonce_{};
  std::array<unsigned char, kMaxBytes> plain_{};
  std::array<std::array<unsigned char, kMaxBytes>, kBatch> buffers_{};
  std::array<iovec, kBatch> pieces_{};
  std::array<mmsghdr, kBatch> headers_{};
};

}  // namespace kwind::bench
