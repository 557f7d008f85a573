// `kwind compare`: what changed from one description to the next, and whether that breaks old
// peers.
#include "kwind/language/compare.h"
#include "kwind/json/text.h"

#include <fmt/format.h>

#include <algorithm>
#include <memory>
#include <nlohmann/json.hpp>

#include "commands.h"

namespace kwind::tool {
namespace {

struct CompareArguments {
  std::string before;
  std::string after;
  bool json = false;
};

// "version 3", "versions 1 to 4 and 7".
std::string versions_text(const std::vector<std::uint16_t>& versions) {
  std::vector<std::string> runs;
  for (std::size_t i = 0; i < versions.size();) {
    std::size_t end = i + 1;
    while (end < versions.size() && versions[end] == versions[end - 1] + 1) ++end;
    runs.push_back(end - i == 1 ? fmt::format("{}", versions[i])
                                : fmt::format("{} to {}", versions[i], versions[end - 1]));
    i = end;
  }
  std::string text = versions.size() == 1 ? "version " : "versions ";
  for (std::size_t i = 0; i < runs.size(); ++i) {
    if (i > 0) text += i + 1 == runs.size() ? " and " : ", ";
    text += runs[i];
  }
  return text;
}

// What becomes of the peers that are out there.
std::string verdict(const schema::Protocol& before, const std::vector<std::uint16_t>& refused,
                    const std::string& name) {
  const int spoken = before.version - schema::oldest_version(before) + 1;
  if (refused.empty()) return fmt::format("peers built from {} are still understood", name);
  if (std::cmp_equal(refused.size(), spoken)) {
    return fmt::format("peers built from {} would be refused", name);
  }
  return fmt::format("{} {} no longer understood: peers that have no other are refused",
                     versions_text(refused), refused.size() == 1 ? "is" : "are");
}

// One line for each change, the worst first, then the verdict.
void print_changes(const std::vector<language::Change>& changes, const std::string& verdict,
                   const CompareArguments& arguments) {
  if (changes.empty()) {
    fmt::print("{} and {} are the same\n", arguments.before, arguments.after);
    return;
  }
  std::size_t where = 0;
  for (const auto& change : changes) where = std::max(where, change.where.size());
  std::array<std::size_t, 3> counts{};
  for (const auto& change : changes) {
    ++counts[static_cast<std::size_t>(change.impact)];
    fmt::print("{:<11}  {:<{}}  {}\n", name_of(change.impact), change.where, where, change.what);
    if (!change.fix.empty()) fmt::print("{:<11}  {:<{}}  fix: {}\n", "", "", where, change.fix);
  }
  fmt::print("\n{} harmless, {} that need `since`, {} that break: {}\n", counts[0], counts[1],
             counts[2], verdict);
}

// Exit code 1 if old peers are refused by the newer description.
int compare_files(const CompareArguments& arguments) {
  language::Compiled before;
  language::Compiled after;
  const bool loaded = load_source(arguments.before, before);
  if (!load_source(arguments.after, after) || !loaded) return kFoundWrong;
  const auto changes = language::compare(before.protocol, after.protocol);
  const auto refused = language::refused_versions(before.protocol, after.protocol);
  if (arguments.json) {
    nlohmann::ordered_json out = nlohmann::ordered_json::array();
    for (const auto& change : changes) {
      out.push_back({{"impact", name_of(change.impact)},
                     {"where", change.where},
                     {"what", change.what},
                     {"fix", change.fix}});
    }
    fmt::print("{}\n", json::text_of({{"refused_versions", refused}, {"changes", out}}, 2));
  } else {
    print_changes(changes, verdict(before.protocol, refused, arguments.before), arguments);
  }
  return refused.empty() ? kFine : kFoundWrong;
}

}  // namespace

// The options of `kwind compare`.
void add_compare(Command app, std::function<int()>& chosen) {
  auto arguments = std::make_shared<CompareArguments>();
  Command command = app.add_subcommand(
      "compare", "List what changed from one description to the next, and what that breaks");
  command.add_option("OLD", arguments->before, "The description that peers were built from")
      .required();
  command.add_option("NEW", arguments->after, "The description as it is now").required();
  command.add_flag("--json", arguments->json, "Print one JSON object");
  command.footer(
      "Exit code 1 when peers of a version that OLD speaks would be refused, so that the CI of a "
      "game\n"
      "can ask.\n"
      "Example:\n  kwind compare released.kw harbour.kw");
  command.callback(
      [arguments, &chosen] { chosen = [arguments] { return compare_files(*arguments); }; });
}

}  // namespace kwind::tool
