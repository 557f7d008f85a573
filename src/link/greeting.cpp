#include "greeting.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::link {
namespace {

constexpr Duration kFirstRetry = std::chrono::milliseconds(250);
constexpr unsigned kMostCookies = 8;  // a server that never likes its own cookie is not worth more

}  // namespace

Greeting::Greeting(Identity identity, std::uint64_t nonce, Time now)
    : identity_(std::move(identity)), nonce_(nonce), next_send_(now) {}

Greeting::Answer Greeting::receive(Time now, std::span<const std::byte> datagram) {
  Answer answer;
  const auto form = form_of(datagram);
  if (!form) return {form.error(), {}, Errc::none, {}, {}};
  switch (*form) {
    case Form::data:
    case Form::hello: answer.error = Errc::unexpected; return answer;
    case Form::cookie: {
      const auto reply = read_cookie(datagram);
      if (!reply) {
        answer.error = reply.error();
      } else if (reply->client_nonce != nonce_ || cookies_ >= kMostCookies ||
                 cookie_ == reply->cookie) {
        answer.error = Errc::unexpected;
      } else {
        cookie_ = reply->cookie;
        ++cookies_;
        if (copies_ == 1) answer.rtt = now - last_sent_;
        copies_ = 0;
        next_send_ = now;
      }
      return answer;
    }
    case Form::welcome: {
      const auto welcome = read_welcome(datagram);
      if (!welcome) {
        answer.error = welcome.error();
      } else if (welcome->client_nonce != nonce_ ||
                 welcome->version_index >= identity_.versions.size()) {
        answer.error = Errc::unexpected;
      } else {
        answer.welcome = Admission{welcome->id, nonce_, welcome->server_nonce,
                                   identity_.versions[welcome->version_index].version};
        if (copies_ == 1) answer.rtt = now - last_sent_;
      }
      return answer;
    }
    case Form::refusal: {
      const auto refusal = read_refusal(datagram);
      if (!refusal) {
        answer.error = refusal.error();
      } else if (refusal->client_nonce != nonce_) {
        answer.error = Errc::unexpected;
      } else {
        answer.refused = refusal->code;
        answer.text =
            refusal->mismatch ? explain_mismatch(identity_, *refusal->mismatch) : refusal->text;
      }
      return answer;
    }
    case Form::versions: {
      const auto versions = read_versions(datagram);
      if (!versions) {
        answer.error = versions.error();
      } else if (versions->client_nonce != nonce_ ||
                 std::find(versions->known.begin(), versions->known.end(), kLinkVersion) !=
                     versions->known.end()) {
        answer.error = Errc::unexpected;
      } else {
        answer.refused = Errc::link_version;
        answer.text = fmt::format("the server knows link versions {}, this client {}",
                                  fmt::join(versions->known, ", "), kLinkVersion);
      }
      return answer;
    }
  }
  return answer;
}

std::size_t Greeting::poll_datagram(Time now, std::span<std::byte> out) {
  if (now < next_send_) return 0;
  last_sent_ = now;
  next_send_ = now + kFirstRetry * (1U << std::min(copies_, 2U));
  ++copies_;
  return write(Hello{kLinkVersion, nonce_, cookie_, identity_}, out);
}

}  // namespace kwind::link
