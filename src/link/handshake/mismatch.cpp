// Finds the first declaration in which two descriptions differ, from short digests of all
// declarations.
#include "link/handshake/mismatch.h"

#include <fmt/format.h>

#include <algorithm>

namespace kwind::link {
namespace {

struct Named {
  std::string_view name;
  std::uint32_t digest;
};

// The declarations that exist in `version`, in order.
std::vector<Named> declarations_in(const Identity& identity, std::uint16_t version) {
  std::vector<Named> all;
  std::string_view last;
  for (const DeclarationDigest& row : identity.declarations) {
    if (row.from > version) continue;
    if (row.name == last) all.pop_back();  // a later row of the same declaration
    all.push_back({row.name, row.digest});
    last = row.name;
  }
  std::erase_if(all, [](const Named& named) { return named.digest == 0; });
  return all;
}

// One digest for each group of `group` neighbours, so that any description fits into a refusal.
std::vector<std::uint32_t> grouped(const std::vector<Named>& all, std::size_t group) {
  std::vector<std::uint32_t> digests;
  for (std::size_t i = 0; i < all.size(); i += group) {
    if (group == 1) {
      digests.push_back(all[i].digest);
      continue;
    }
    std::vector<std::byte> joined(4 * std::min(group, all.size() - i));
    bits::Writer writer(joined);
    for (std::size_t k = i; k < std::min(i + group, all.size()); ++k) writer.put(all[k].digest, 32);
    writer.finish();
    digests.push_back(static_cast<std::uint32_t>(bits::Reader(blake2b_128(joined)).get(32)));
  }
  return digests;
}

std::string spoken(std::uint16_t oldest, std::uint16_t newest) {
  return oldest == newest ? fmt::format("version {}", newest)
                          : fmt::format("versions {} to {}", oldest, newest);
}

// Which side is older, as far as version numbers show.
std::string_view older(std::uint16_t client, std::uint16_t server) {
  if (client < server) return "the client is older";
  if (client > server) return "the server is older";
  return "both call it their newest, so one was changed without a new version";
}

}  // namespace

// Server side: digests of the newest version that both ends name, to send with the refusal.
Mismatch mismatch_of(const Identity& ours, const Identity& theirs) {
  Mismatch made;
  made.newest = ours.versions.front().version;
  made.oldest = ours.versions.back().version;
  for (const VersionDigest& entry : ours.versions) {
    if (std::any_of(theirs.versions.begin(), theirs.versions.end(),
                    [&](const auto& other) { return other.version == entry.version; })) {
      made.compared = std::max(made.compared, entry.version);
    }
  }
  if (made.compared == 0) return made;
  const auto all = declarations_in(ours, made.compared);
  made.group = static_cast<std::uint16_t>(
      std::max<std::size_t>(1, (all.size() + Mismatch::kMaxDigests - 1) / Mismatch::kMaxDigests));
  made.digests = grouped(all, made.group);
  return made;
}

// Client side: compares digest by digest and names the first declaration that differs.
std::string explain_mismatch(const Identity& client, const Mismatch& server) {
  const std::uint16_t newest = client.versions.front().version;
  const std::uint16_t oldest = client.versions.back().version;
  const std::string_view who = older(newest, server.newest);
  if (server.compared == 0) {
    return fmt::format("the server speaks {}, this client {}: {}",
                       spoken(server.oldest, server.newest), spoken(oldest, newest), who);
  }
  const auto all = declarations_in(client, server.compared);
  const auto ours = grouped(all, server.group);
  const auto differ =
      std::mismatch(ours.begin(), ours.end(), server.digests.begin(), server.digests.end());
  const auto first = static_cast<std::size_t>(differ.first - ours.begin()) * server.group;
  std::string what;
  if (first >= all.size()) {
    what = all.empty() ? "the server declares what this client does not"
                       : fmt::format("the server declares something behind `{}`", all.back().name);
    if (differ.second == server.digests.end()) what = "the name or order of declarations differs";
  } else if (server.group == 1) {
    what = fmt::format("`{}` is the first that differs", all[first].name);
  } else {
    what = fmt::format("the first that differs is among `{}` to `{}`", all[first].name,
                       all[std::min(first + server.group, all.size()) - 1].name);
  }
  return fmt::format("in version {} {}; {} (its newest: {}, the server's: {})", server.compared,
                     what, who, newest, server.newest);
}

// Ranges of versions, then short digests of declarations.
void put(bits::Writer& out, const Mismatch& mismatch) {
  out.put(mismatch.oldest, 16);
  out.put(mismatch.newest, 16);
  out.put(mismatch.compared, 16);
  out.put(mismatch.group, 16);
  out.put(mismatch.digests.size(), 8);
  for (const std::uint32_t digest : mismatch.digests) out.put(digest, 32);
}

// Reads bytes of an unknown server: counts are limited before memory is taken.
Result<Mismatch> get_mismatch(bits::Reader& in) {
  Mismatch made;
  made.oldest = static_cast<std::uint16_t>(in.get(16));
  made.newest = static_cast<std::uint16_t>(in.get(16));
  made.compared = static_cast<std::uint16_t>(in.get(16));
  made.group = static_cast<std::uint16_t>(in.get(16));
  const std::uint64_t count = in.get(8);
  if (!in.ok()) return fail(Errc::truncated);
  if (made.group == 0) return fail(Errc::value_range);
  if (count > Mismatch::kMaxDigests) return fail(Errc::too_long);
  for (std::uint64_t i = 0; i < count; ++i) {
    made.digests.push_back(static_cast<std::uint32_t>(in.get(32)));
  }
  if (!in.ok()) return fail(Errc::truncated);
  return made;
}

}  // namespace kwind::link
