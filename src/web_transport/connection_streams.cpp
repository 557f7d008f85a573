// The HTTP/3 side of a connection: its streams, the request that opens the session, and the end of
// the session. connection.cpp has the QUIC side.
#include <string>
#include <string_view>
#include <utility>
#include <vector>

#include "web/origin.h"
#include "web_transport/connection.h"

namespace kwind::web {

// ---- frames and capsules of a request ----

class Connection::CapsuleSink final : public RecordReader::Sink {
 public:
  explicit CapsuleSink(Connection& connection) : connection_(connection) {}
  RecordReader::Value begins(std::uint64_t type) override {
    return type == h3::kCloseSession ? RecordReader::Value::whole : RecordReader::Value::skipped;
  }
  // Code and reason are the page's own: the link has said its reason inside.
  bool value(std::uint64_t, std::string_view) override {
    connection_.session_over();
    return true;
  }

 private:
  Connection& connection_;
};

class Connection::FrameSink final : public RecordReader::Sink {
 public:
  FrameSink(Connection& connection, std::int64_t id, Incoming& stream)
      : connection_(connection), id_(id), stream_(stream) {}
  RecordReader::Value begins(std::uint64_t type) override {
    if (stream_.kind != Incoming::Kind::request) return RecordReader::Value::skipped;
    if (type == h3::kHeaders && !stream_.is_answered) return RecordReader::Value::whole;
    return type == h3::kData ? RecordReader::Value::pieces : RecordReader::Value::skipped;
  }
  bool value(std::uint64_t type, std::string_view bytes) override {
    if (type == h3::kHeaders) {
      stream_.is_answered = true;
      return connection_.on_headers(id_, bytes);
    }
    if (connection_.session_ != id_) return true;
    CapsuleSink capsules(connection_);
    return stream_.capsules.feed(bytes, capsules);
  }

 private:
  Connection& connection_;
  std::int64_t id_;
  Incoming& stream_;
};

// ---- streams in ----

// The first number of a unidirectional stream is its type. Of a bidirectional one it is a frame
// type, and belongs to the first frame, unless the stream is one of a session.
bool Connection::read_kind(std::int64_t id, Incoming& stream, std::string_view& bytes) {
  while (stream.kind == Incoming::Kind::unknown && !bytes.empty()) {
    stream.head.push_back(bytes.front());
    bytes.remove_prefix(1);
    std::string_view head = stream.head;
    const auto type = take_varint(head);
    if (!type) continue;
    const bool is_one_way = (id & 2) != 0;
    if (is_one_way) {
      stream.kind = *type == h3::kControlStream ? Incoming::Kind::control : Incoming::Kind::ignored;
    } else if (*type == h3::kSessionStream) {
      stream.kind = Incoming::Kind::ignored;
    } else {
      stream.kind = Incoming::Kind::request;
      FrameSink sink(*this, id, stream);
      return stream.frames.feed(std::exchange(stream.head, {}), sink);
    }
  }
  return true;
}

// Takes stream bytes in any pieces. An error here makes ngtcp2 fail, and fail_with() closes with
// `stream_error_`.
int Connection::on_stream_data(std::int64_t id, std::string_view bytes, bool fin) {
  if (phase_ >= Phase::closing) return 0;
  Incoming& stream = incoming_[id];
  const auto broken = [this] {
    ++shared_.counts.bad_requests;
    return NGTCP2_ERR_CALLBACK_FAILURE;
  };
  if (!read_kind(id, stream, bytes)) return broken();
  if (stream.kind == Incoming::Kind::control || stream.kind == Incoming::Kind::request) {
    FrameSink sink(*this, id, stream);
    if (!stream.frames.feed(bytes, sink)) return broken();
  }
  // The end of a control stream ends the connection (RFC 9114, 6.2.1), that of the CONNECT the
  // session.
  if (fin && stream.kind == Incoming::Kind::control) return broken();
  if (fin && session_ == id) session_over();
  if (fin && stream.kind == Incoming::Kind::request && !stream.is_answered) return broken();
  return 0;
}

// The checks of an extended CONNECT (RFC 9220): method, protocol and scheme, then path, then
// origin. Each has a status and a count of its own. A connection has one session.
bool Connection::on_headers(std::int64_t id, std::string_view block) {
  const auto fields = read_header_block(id, block);
  if (!fields) {
    stream_error_ = h3::kMessageError;
    return false;
  }
  const auto value = [&](std::string_view name) -> std::string_view {
    const auto found = fields->find(name);
    return found == fields->end() ? std::string_view{} : std::string_view(found->second);
  };
  WebTransportCounts& counts = shared_.counts;
  if (value(":method") != "CONNECT" || !value(":protocol").starts_with("webtransport") ||
      value(":scheme") != "https" || session_) {
    ++counts.bad_requests;
    return respond(id, "400", false);
  }
  const std::string_view path = value(":path");
  if (path.substr(0, path.find('?')) != shared_.options.path) {
    ++counts.not_found;
    return respond(id, "404", false);
  }
  if (!is_allowed_origin(value("origin"), value(":authority"), shared_.options.origins)) {
    ++counts.bad_origins;
    return respond(id, "403", false);
  }
  return respond(id, "200", true);
}

// The header field beside the status names the draft, for browsers that look for it.
bool Connection::respond(std::int64_t id, std::string_view status, bool opens) {
  std::vector<std::pair<std::string, std::string>> fields{{":status", std::string(status)}};
  if (opens) fields.emplace_back("sec-webtransport-http3-draft", "draft02");
  const auto block = write_header_block(id, fields);
  if (!block) return false;
  queue(id, frame(h3::kHeaders, *block), !opens);
  if (opens) {
    session_ = id;
    phase_ = Phase::open;
    ++shared_.counts.opened;
  } else if (!session_) {
    close_at_ = now_ + kEndDelay;
  }
  return true;
}

// The peer may open another stream in place of one that closed.
void Connection::on_stream_closed(std::int64_t id) {
  outgoing_.erase(id);
  incoming_.erase(id);
  if (session_ == id) session_over();
  if (ngtcp2_conn_is_local_stream(quic_, id) != 0) return;
  if ((id & 2) != 0) {
    ngtcp2_conn_extend_max_streams_uni(quic_, 1);
  } else {
    ngtcp2_conn_extend_max_streams_bidi(quic_, 1);
  }
}

// Browsers drop a connection silently after its last session: without a close from here the
// server would send probes until its idle timeout.
void Connection::session_over() {
  if (phase_ != Phase::open && phase_ != Phase::ending) return;
  if (phase_ == Phase::open) shared_.ended.push_back(peer_);
  phase_ = Phase::ending;
  session_.reset();
  datagrams_.clear();
  if (!close_at_) close_at_ = now_ + kEndDelay;
}

}  // namespace kwind::web
