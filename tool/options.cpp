// The only source that includes the option parser: it takes ten seconds to compile, and it throws.
#include "options.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <charconv>
#include <cmath>

#include "generate.h"
#include "kwind/bits/nearest.h"

namespace kwind::tool {
namespace {

// All names that could have been meant where `app` met something it does not know.
std::vector<std::string> names_of(const CLI::App& app) {
  std::vector<std::string> names;
  for (const CLI::Option* option : app.get_options()) {
    for (const std::string& name : option->get_lnames()) names.push_back("--" + name);
  }
  for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; })) {
    names.push_back(command->get_name());
  }
  return names;
}

// For completion: values that are files.
bool names_a_file(const std::string& value) {
  for (const char* const part : {"FILE", "DIR", "PATH"}) {
    if (value.find(part) != std::string::npos) return true;
  }
  return false;
}

// 10000000, 0.5
std::string text_of(double number) {
  return number == std::floor(number) ? fmt::format("{:.0f}", number) : fmt::format("{}", number);
}

// Everything about a command that pages and completions show.
CommandText text_of(const CLI::App& app, const std::string& parent) {
  CommandText made;
  made.name = parent.empty() ? app.get_name() : parent + " " + app.get_name();
  made.about = app.get_description();
  made.footer = app.get_footer();
  for (const CLI::Option* option : app.get_options()) {
    CommandText::Entry entry;
    entry.names = option->get_name(true, true);
    entry.is_argument = option->get_positional();
    for (const std::string& name : option->get_snames()) entry.literals.push_back("-" + name);
    for (const std::string& name : option->get_lnames()) entry.literals.push_back("--" + name);
    if (option->get_items_expected_max() > 0) entry.value = option->get_type_name();
    entry.fallback = option->get_default_str();
    entry.about = option->get_description();
    entry.is_required = option->get_required();
    entry.is_file = names_a_file(entry.value) || names_a_file(entry.names);
    made.entries.push_back(std::move(entry));
  }
  for (const CLI::App* command : app.get_subcommands([](const CLI::App*) { return true; })) {
    made.commands.push_back(text_of(*command, made.name));
  }
  return made;
}

// One line: what is wrong, then how to see the usage.
int explain_misuse(const CLI::App& app, const CLI::ParseError& error) {
  const CLI::App* where = &app;
  for (const CLI::App* command : app.get_subcommands()) where = command;
  const std::string full = where == &app ? "kwind" : "kwind " + where->get_name();
  std::vector<std::string> unknown = where->remaining();
  if (unknown.empty()) unknown = app.remaining();
  if (dynamic_cast<const CLI::ExtrasError*>(&error) != nullptr && !unknown.empty()) {
    const std::string word = unknown.front().substr(0, unknown.front().find('='));
    const std::string near = bits::nearest(word, names_of(*where));
    fmt::print(stderr, "{}: unknown {} {}{}\n", full,
               word.starts_with('-') ? "option" : (where == &app ? "command" : "argument"), word,
               near.empty() ? "" : fmt::format("; did you mean {}?", near));
  } else {
    fmt::print(stderr, "{}: {}\n", full, error.what());
  }
  fmt::print(stderr, "`{} --help` lists what there is\n", full);
  return kUsedWrongly;
}

}  // namespace

Option Option::range(double low, double high) {
  return within<double>(low, high, "a number");
}
Option Option::range(int low, int high) {
  return within<int>(low, high, "a whole number");
}
// A range that an error names.
template <class Number>
Option Option::within(Number low, Number high, const char* what) {
  const std::string limits = fmt::format("{} to {}", text_of(low), text_of(high));
  option_->check([low, high, problem = fmt::format("must be {} from {}", what, limits)](
                     const std::string& text) {
    Number value{};
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    const bool is_number = error == std::errc{} && end == text.data() + text.size();
    // So that "nan" is outside.
    return is_number && value >= low && value <= high ? std::string() : problem;
  });
  option_->description(fmt::format("{} ({})", option_->get_description(), limits));
  return *this;
}
// An option that may stand without its value.
Option Option::optional_value(const std::string& fallback) {
  option_->expected(0, 1);
  option_->default_str(fallback);
  return *this;
}
// The library takes -1 for the largest number, and what is too large, too.
Option Option::whole_from_zero() {
  option_->check([](const std::string& text) {
    std::uint64_t value = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), value);
    const bool is_whole = error == std::errc{} && end == text.data() + text.size();
    return std::string(is_whole ? "" : "must be a whole number, 0 to 18446744073709551615");
  });
  return *this;
}
// An empty word is what an unset variable of a shell leaves behind: never what was meant.
Option Option::not_empty() {
  option_->check(
      [](const std::string& text) { return std::string(text.empty() ? "must not be empty" : ""); });
  return *this;
}
Option Option::required() {
  option_->required();
  return *this;
}
Option Option::type_name(const std::string& name) {
  option_->type_name(name);
  return *this;
}
Option Option::capture_default_str() {
  option_->capture_default_str();
  return *this;
}
Option Option::needs(Option other) {
  option_->needs(other.option_);
  return *this;
}
Option Option::excludes(Option other) {
  option_->excludes(other.option_);
  return *this;
}

Command Command::add_subcommand(const std::string& name, const std::string& about) {
  return Command(app_->add_subcommand(name, about));
}
void Command::require_subcommand(int count) {
  app_->require_subcommand(count);
}
void Command::footer(const std::string& text) {
  app_->footer(text);
}
void Command::callback(std::function<void()> run) {
  app_->callback(std::move(run));
}
Option Command::add_option(const std::string& names, std::string& into, const std::string& about) {
  return Option(app_->add_option(names, into, about)).not_empty();
}
Option Command::add_option(const std::string& names, std::vector<std::string>& into,
                           const std::string& about) {
  return Option(app_->add_option(names, into, about)).not_empty();
}
Option Command::add_option(const std::string& names, int& into, const std::string& about) {
  return Option(app_->add_option(names, into, about)).type_name("NUMBER");
}
Option Command::add_option(const std::string& names, std::int64_t& into, const std::string& about) {
  return Option(app_->add_option(names, into, about)).type_name("NUMBER");
}
Option Command::add_option(const std::string& names, double& into, const std::string& about) {
  return Option(app_->add_option(names, into, about)).type_name("NUMBER");
}
Option Command::add_option(const std::string& names, std::uint16_t& into,
                           const std::string& about) {
  return Option(app_->add_option(names, into, about)).type_name("NUMBER");
}
Option Command::add_option(const std::string& names, std::uint32_t& into,
                           const std::string& about) {
  return Option(app_->add_option(names, into, about)).type_name("NUMBER");
}
Option Command::add_option(const std::string& names, std::uint64_t& into,
                           const std::string& about) {
  return Option(app_->add_option(names, into, about)).type_name("NUMBER").whole_from_zero();
}
Option Command::add_flag(const std::string& names, bool& into, const std::string& about) {
  return Option(app_->add_flag(names, into, about));
}

// --version and the footer of --help.
CommandLine::CommandLine(const std::string& about, const std::string& version,
                         const std::string& footer)
    : app_(new CLI::App(about, "kwind")) {
  app_->set_version_flag("--version", version);
  app_->footer(footer);
  app_->require_subcommand(0, 1);
}
CommandLine::~CommandLine() {
  delete app_;
}
Command CommandLine::root() {
  return Command(app_);
}
// kNone if a command was chosen; otherwise the exit code: of --help, or of a misuse.
int CommandLine::parse(int argc, char** argv) {
  try {
    app_->parse(argc, argv);
  } catch (const CLI::Success& asked) {  // --help, --version
    return app_->exit(asked);
  } catch (const CLI::ParseError& error) {
    return explain_misuse(*app_, error);
  }
  return kNone;
}
CommandText CommandLine::text() const {
  return text_of(*app_, "");
}
std::string CommandLine::help() const {
  return app_->help();
}

}  // namespace kwind::tool
