// Prints explained datagrams, and the table of what all bits were spent on.
#include "capture/print.h"

#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

namespace kwind::tool {
namespace {

using capture::Entry;
using link::ObservedPart;

double seconds(std::int64_t ns, std::int64_t start_ns) {
  return static_cast<double>(ns - start_ns) / 1e9;
}

// "3 to 7, 9", newest first.
std::string ranges(const ObservedPart& acks) {
  std::string text;
  for (const auto& [first, last] : acks.acked) {
    if (!text.empty()) text += ", ";
    text += first == last ? fmt::format("#{}", last) : fmt::format("#{} to #{}", first, last);
  }
  return text;
}

// Why a part travels again: a loss was noticed, a probe, a copy in case of a loss.
std::string again(const Entry& entry) {
  if (entry.again == capture::Again::no || entry.part.kind == ObservedPart::Kind::parity) return {};
  std::string text =
      fmt::format("; {}: it was in #{}", capture::again_text(entry.again), entry.before);
  if (entry.after_ns > 0) {
    text += fmt::format(", {:.0f} ms before", static_cast<double>(entry.after_ns) / 1e6);
  }
  return text;
}

// One line about a part: what it is, on which channel, with which number.
std::string what(const Entry& entry) {
  const ObservedPart& part = entry.part;
  switch (part.kind) {
    case ObservedPart::Kind::message:
      return fmt::format("{} on {}: {} bits and {} of frame{}", entry.label, entry.channel,
                         part.payload_bits, part.bits - part.payload_bits, again(entry));
    case ObservedPart::Kind::piece:
      return fmt::format("{} on {}: bytes {} to {} of {}{}", entry.label, entry.channel,
                         part.first_byte, part.first_byte + part.payload_bits / 8 - 1,
                         (part.total_bits + 7) / 8, again(entry));
    case ObservedPart::Kind::parity:
      return fmt::format("{}: numbers {} and {}, redundant", entry.label, part.number,
                         part.number + 2);
    case ObservedPart::Kind::acks:
      return fmt::format("acks {}, {:.1f} ms old", ranges(part),
                         static_cast<double>(part.ack_delay.count()) / 1e6);
    case ObservedPart::Kind::handshake:
    case ObservedPart::Kind::header:
    case ObservedPart::Kind::payload:
    case ObservedPart::Kind::control:
    case ObservedPart::Kind::padding:
    case ObservedPart::Kind::encrypted:
    case ObservedPart::Kind::tag: return entry.label;
  }
  return {};
}

// Direction, packet number, size and connection.
std::string title(const capture::Line& line) {
  const link::ObservedDatagram& datagram = line.datagram;
  if (datagram.form == "foreign") return "not of a connection that is known here";
  std::string text(datagram.form);
  if (datagram.form == "data") text = fmt::format("#{}", datagram.number);
  if (datagram.id) text += fmt::format(", connection {:07x}", static_cast<unsigned>(*datagram.id));
  if (datagram.form == "data" && !datagram.opened) {
    text += datagram.problem == Errc::none ? ", encrypted"
                                           : fmt::format(", {}", error_info(datagram.problem).text);
  }
  return text;
}

double percent(std::uint64_t part, std::uint64_t all) {
  return all == 0 ? 0 : 100.0 * static_cast<double>(part) / static_cast<double>(all);
}
double bytes(std::uint64_t bits) {
  return static_cast<double>(bits) / 8;
}

}  // namespace

// A datagram as text: its title, then a line for each part.
std::string line_text(const capture::Line& line, std::int64_t start_ns, bool fields) {
  const link::ObservedDatagram& datagram = line.datagram;
  std::string text =
      fmt::format("{:>10.6f}  {:<4}  {:>4} bytes  {} > {}  {}\n", seconds(line.unix_ns, start_ns),
                  datagram.form == "foreign" ? ""
                  : datagram.up              ? "up"
                                             : "down",
                  datagram.bytes, line.from.text(), line.to.text(), title(line));
  for (const Entry& entry : line.entries) {
    if (entry.part.kind == ObservedPart::Kind::handshake) continue;
    text += fmt::format("{:>22} bits  {}\n", entry.part.bits, what(entry));
    if (!fields) continue;
    for (const schema::Span& span : entry.fields.spans) {
      text += fmt::format("{:>34} bits  {} = {}{}\n", span.bits, span.path,
                          span.fault ? span.raw : span.value, span.fault ? "   <- wrong" : "");
    }
  }
  return text;
}

// The same as an object of a JSON line.
nlohmann::ordered_json line_json(const capture::Line& line, std::int64_t start_ns) {
  const link::ObservedDatagram& datagram = line.datagram;
  nlohmann::ordered_json out{{"seconds", seconds(line.unix_ns, start_ns)},
                             {"from", line.from.text()},
                             {"to", line.to.text()},
                             {"form", std::string(datagram.form)},
                             {"bytes", datagram.bytes}};
  if (datagram.form == "foreign") return out;
  out["way"] = datagram.up ? "up" : "down";
  if (datagram.id) out["connection"] = static_cast<std::uint32_t>(*datagram.id);
  if (datagram.form == "data") {
    out["packet"] = datagram.number;
    out["opened"] = datagram.opened;
    out["encrypted"] = datagram.encrypted;
  }
  if (datagram.problem != Errc::none) out["problem"] = error_info(datagram.problem).name;
  out["parts"] = nlohmann::ordered_json::array();
  for (const Entry& entry : line.entries) {
    nlohmann::ordered_json part{{"what", entry.label}, {"bits", entry.part.bits}};
    if (!entry.channel.empty()) part["channel"] = entry.channel;
    if (entry.part.payload_bits > 0) part["payload_bits"] = entry.part.payload_bits;
    if (entry.part.kind == ObservedPart::Kind::acks) {
      part["acked"] = entry.part.acked;
      part["delay_ms"] = static_cast<double>(entry.part.ack_delay.count()) / 1e6;
    }
    if (entry.again != capture::Again::no) {
      part["again"] = capture::again_text(entry.again);
      if (entry.part.kind != ObservedPart::Kind::parity) part["was_in"] = entry.before;
    }
    for (const schema::Span& span : entry.fields.spans) {
      part["fields"].push_back({{"path", span.path}, {"bits", span.bits}, {"value", span.value}});
    }
    out["parts"].push_back(std::move(part));
  }
  return out;
}

// A table of bits by kind of part, both directions beside each other.
std::string account_text(const capture::Account& account) {
  const std::uint64_t up = account.total_bits(true);
  const std::uint64_t down = account.total_bits(false);
  std::size_t width = 20;
  const auto rows = account.rows();
  for (const capture::Row& row : rows) width = std::max(width, row.label.size());
  std::string text =
      fmt::format("{:<{}}  {:^27}    {:^27}\n{:<{}}  {:>8} {:>11} {:>6}    {:>8} {:>11} {:>6}\n",
                  "", width, "up (to the server)", "down (to clients)", "bytes were for", width,
                  "count", "bytes", "%", "count", "bytes", "%");
  for (const capture::Row& row : rows) {
    text += fmt::format("{:<{}}  {:>8} {:>11.1f} {:>6.1f}    {:>8} {:>11.1f} {:>6.1f}\n", row.label,
                        width, row.up.count, bytes(row.up.bits), percent(row.up.bits, up),
                        row.down.count, bytes(row.down.bits), percent(row.down.bits, down));
  }
  text += fmt::format("{:<{}}  {:>8} {:>11.1f} {:>6}    {:>8} {:>11.1f}\n", "all", width, "",
                      bytes(up), "", "", bytes(down));
  return text;
}

// The same as JSON.
nlohmann::ordered_json account_json(const capture::Account& account) {
  nlohmann::ordered_json out{{"rows", nlohmann::ordered_json::array()}};
  const auto sum = [](const capture::Sum& one) {
    return nlohmann::ordered_json{{"count", one.count}, {"bytes", bytes(one.bits)}};
  };
  for (const capture::Row& row : account.rows()) {
    out["rows"].push_back({{"what", row.label}, {"up", sum(row.up)}, {"down", sum(row.down)}});
  }
  out["bytes_up"] = bytes(account.total_bits(true));
  out["bytes_down"] = bytes(account.total_bits(false));
  out["connections"] = account.connections();
  out["not_opened"] = account.unopened();
  out["not_read"] = account.unread();
  out["foreign"] = account.foreign();
  return out;
}

}  // namespace kwind::tool
