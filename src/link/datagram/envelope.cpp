// Encryption of datagrams with key phases (as in RFC 9001, 6): the receiver tries the next key when
// the phase bit flips, and keeps the old one for three probe timeouts.
#include "link/datagram/envelope.h"

#include <algorithm>
#include <utility>

#include "kwind/bits/reader.h"
#include "kwind/bits/writer.h"
#include "kwind/core/assert.h"

namespace kwind::link {
namespace {

// RFC 9001, 6.6: for ChaCha20-Poly1305; AES-256-GCM would stand more.
constexpr std::uint64_t kMaxFailures = std::uint64_t{1} << 36;

}  // namespace

Envelope::Envelope(const CheckKeys& keys, bool client)
    : client_(client),
      send_check_(client ? keys.up : keys.down),
      receive_check_(client ? keys.down : keys.up) {}

Envelope::Envelope(const AeadKeys& keys, bool client, KeyLife life, Time now)
    : client_(client),
      life_(life),
      seal_(Seal{Aead(keys.cipher, client ? keys.up : keys.down),
                 Aead(keys.cipher, client ? keys.down : keys.up)}) {
  sending_.since = now;
}

// Reports both present keys at once, later keys as each phase begins.
void Envelope::log_keys(KeyLog out) {
  key_log_ = std::move(out);
  if (!key_log_ || !seal_) return;
  key_log_(client_, sending_.phase, seal_->send.key().bytes());
  key_log_(!client_, receiving_.phase, seal_->receive.key().bytes());
}

// The phase bit for packet `number`. A phase begins only after the peer acknowledged a
// packet of the one before (RFC 9001, 6.1): the receiver therefore never meets a key two steps
// ahead.
bool Envelope::phase_of(Time now, std::uint64_t number) const {
  return (sending_.phase + (key_change_due(now, number) ? 1 : 0)) % 2 == 1;
}

// Without encryption the last bytes are a keyed 32-bit check over all bytes before it.
void Envelope::close(Time now, std::uint64_t number, std::span<std::byte> datagram,
                     std::size_t head_bytes) {
  const std::size_t body_end = datagram.size() - tag_bytes();
  if (seal_) {
    if (key_change_due(now, number)) {
      seal_->send = seal_->send.next();
      sending_ = {sending_.phase + 1, number, now, false};
      if (key_log_) key_log_(client_, sending_.phase, seal_->send.key().bytes());
    }
    seal_->send.seal(number, datagram.first(head_bytes),
                     datagram.subspan(head_bytes, body_end - head_bytes),
                     datagram.last<Aead::kTagBytes>());
    return;
  }
  bits::Writer check(datagram.last(kCheckBytes));
  check.put(keyed_check(send_check_, datagram.first(body_end), number), 32);
  check.finish();
}

// Frees the ciphers' tables; the next datagram makes them again.
void Envelope::rest() {
  if (!seal_) return;
  seal_->send.rest();
  seal_->receive.rest();
}

// Three keys are possible. The phase bit of the present key selects that key. The other phase bit
// selects the old key for numbers from before the last change, while the old key is kept, and
// otherwise the next key, which becomes the present one as soon as one datagram opens with it.
Result<std::span<const std::byte>> Envelope::open(Time now, std::uint64_t number, bool phase,
                                                  std::span<const std::byte> datagram,
                                                  std::size_t head_bytes,
                                                  std::span<std::byte> memory) {
  KWIND_ASSERT(datagram.size() >= head_bytes + tag_bytes());
  if (!seal_) {
    const auto checked = datagram.first(datagram.size() - kCheckBytes);
    bits::Reader check(datagram.last(kCheckBytes));
    if (check.get(32) != keyed_check(receive_check_, checked, number)) {
      return fail(Errc::bad_check);
    }
    return checked.subspan(head_bytes);
  }
  if (failures_ >= kMaxFailures) return fail(Errc::key_exhausted);
  if (seal_->old_receive && now >= receiving_.old_until) seal_->old_receive.reset();
  const auto head = datagram.first(head_bytes);
  const auto body = datagram.subspan(head_bytes);
  const auto plain = memory.first(body.size() - Aead::kTagBytes);
  const bool present = phase == (receiving_.phase % 2 == 1);
  if (present) {
    if (seal_->receive.open(number, head, body, plain)) return plain;
  } else if (seal_->old_receive && number < receiving_.first) {
    if (seal_->old_receive->open(number, head, body, plain)) return plain;
  } else {
    // Deriving a key for each forged phase bit costs about what a failed opening does.
    Aead next = seal_->receive.next();
    if (next.open(number, head, body, plain)) {
      seal_->old_receive = std::exchange(seal_->receive, std::move(next));
      receiving_ = {receiving_.phase + 1, number, now + grace_};
      if (key_log_) key_log_(!client_, receiving_.phase, seal_->receive.key().bytes());
      return plain;
    }
  }
  ++failures_;
  return fail(Errc::bad_check);
}

}  // namespace kwind::link
