// troff for man pages (man(7)), and completion functions for bash and zsh: which words may stand
// next.
#include "manual.h"

#include <fmt/format.h>

namespace kwind::tool {
namespace {

// A text as troff shows it: no word is a command or an escape, and a dash is one that can be
// copied.
std::string troff(std::string_view text) {
  std::string out;
  bool starts_line = true;
  for (const char c : text) {
    if (starts_line && (c == '.' || c == '\'')) out += "\\&";
    starts_line = c == '\n';
    switch (c) {
      case '\\': out += "\\e"; break;
      case '-': out += "\\-"; break;
      case '`': out += "\\`"; break;
      default: out += c;
    }
  }
  return out;
}

// "kwind ticket issue" as the name of its page.
std::string page_name(std::string name) {
  for (char& c : name) c = c == ' ' ? '-' : c;
  return name;
}

std::string upper(std::string text) {
  for (char& c : text) c = c >= 'a' && c <= 'z' ? static_cast<char>(c - 'a' + 'A') : c;
  return text;
}

// Examples and remarks: what is indented stays as it is.
std::string footer_text(std::string_view footer) {
  std::string out;
  bool literal = false;
  while (!footer.empty()) {
    const std::size_t end = footer.find('\n');
    const std::string_view line = footer.substr(0, end);
    footer = end == std::string_view::npos ? std::string_view() : footer.substr(end + 1);
    const bool indented = line.starts_with("  ");
    if (indented != literal) out += indented ? ".PP\n.nf\n.RS\n" : ".RE\n.fi\n";
    literal = indented;
    out += line.empty() ? ".PP\n" : troff(indented ? line.substr(2) : line) + "\n";
  }
  if (literal) out += ".RE\n.fi\n";
  return out;
}

// The line of usage.
std::string synopsis(const CommandText& command) {
  std::string out = fmt::format(".B {}\n", troff(command.name));
  if (!command.commands.empty()) out += ".I COMMAND\n";
  bool has_options = false;
  for (const auto& entry : command.entries) {
    if (!entry.is_argument) has_options = true;
  }
  if (has_options) out += "[\\fIOPTION\\fR]...\n";
  for (const auto& entry : command.entries) {
    if (!entry.is_argument) continue;
    out += entry.is_required ? fmt::format(".I {}\n", troff(entry.names))
                             : fmt::format("[\\fI{}\\fR]\n", troff(entry.names));
  }
  return out;
}

// What the option parser calls "UINT:INT in [2 - 600]": a name for the value, and its range.
struct ValueText {
  std::string name;
  std::string range;
};
// The value's name and limits, from the option's help.
ValueText value_text(const std::string& value) {
  ValueText out;
  out.name = value.substr(0, value.find(':'));
  for (const char* const number : {"UINT", "INT", "FLOAT"}) {
    if (out.name == number) out.name = "NUMBER";
  }
  const std::size_t open = value.find("in [");
  const std::size_t close = value.find(']', open);
  const std::size_t between = value.find(" - ", open);
  if (open == std::string::npos || close == std::string::npos || between > close) return out;
  out.range = fmt::format("{} to {}", value.substr(open + 4, between - open - 4),
                          value.substr(between + 3, close - between - 3));
  return out;
}

// One option: its names, its value, its help.
std::string entry_text(const CommandText::Entry& entry) {
  const ValueText value = value_text(entry.value);
  std::string out = fmt::format(".TP\n.B {}", troff(entry.names));
  if (!entry.is_argument && !entry.value.empty()) {
    out += fmt::format(" \\fI{}\\fR", troff(value.name));
  }
  out += "\n" + troff(entry.about.empty() ? "No more is said." : entry.about);
  if (!value.range.empty()) out += fmt::format(". Range: {}", troff(value.range));
  if (!entry.fallback.empty()) out += fmt::format(". Default: {}", troff(entry.fallback));
  return out + "\n";
}

// A man page in troff.
std::string page(const CommandText& command, const std::string& version, const std::string& date) {
  std::string out =
      fmt::format(".TH \"{}\" \"1\" \"{}\" \"kwind {}\" \"User Commands\"\n.SH NAME\n{} \\- {}\n",
                  upper(page_name(command.name)), date, version, troff(page_name(command.name)),
                  troff(command.about));
  out += ".SH SYNOPSIS\n" + synopsis(command);
  out += ".SH DESCRIPTION\n" + troff(command.about) + ".\n";
  bool has_arguments = false;
  for (const auto& entry : command.entries) {
    if (!entry.is_argument) continue;
    if (!has_arguments) out += ".SH ARGUMENTS\n";
    has_arguments = true;
    out += entry_text(entry);
  }
  out += ".SH OPTIONS\n";
  for (const auto& entry : command.entries) {
    if (!entry.is_argument) out += entry_text(entry);
  }
  if (!command.commands.empty()) {
    out += ".SH COMMANDS\n";
    for (const CommandText& each : command.commands) {
      out += fmt::format(".TP\n.BR {} (1)\n{}\n", troff(page_name(each.name)), troff(each.about));
    }
  }
  if (!command.footer.empty()) out += ".SH NOTES\n" + footer_text(command.footer);
  out += ".SH SEE ALSO\n.BR kwind (1)\n";
  return out;
}

// The command's page, then those of its own commands.
void add_pages(const CommandText& command, const std::string& version, const std::string& date,
               std::vector<ManualFile>& out) {
  out.push_back(
      {fmt::format("man/man1/{}.1", page_name(command.name)), page(command, version, date)});
  for (const CommandText& each : command.commands) add_pages(each, version, date, out);
}

std::string last_word(const std::string& name) {
  return name.substr(name.rfind(' ') + 1);
}

// Words that can follow the command.
std::string words_of(const CommandText& command) {
  std::string out;
  for (const CommandText& each : command.commands) out += last_word(each.name) + " ";
  for (const auto& entry : command.entries) {
    for (const std::string& literal : entry.literals) out += literal + " ";
  }
  if (!out.empty()) out.pop_back();
  return out;
}

// One case for each command: the words that may follow it, and the options whose values are files.
void bash_cases(const CommandText& command, std::string& out) {
  std::string files;
  for (const auto& entry : command.entries) {
    if (!entry.is_file) continue;
    for (const std::string& literal : entry.literals) files += "|" + literal;
  }
  out += fmt::format("    \"{}\")\n      words=\"{}\"\n      files=\"{}\"\n      ;;\n",
                     command.name, words_of(command), files.empty() ? "" : files.substr(1));
  for (const CommandText& each : command.commands) bash_cases(each, out);
}

// ",kwind demo,kwind ticket,kwind ticket issue"
void command_names(const CommandText& command, std::string& out) {
  out += "," + command.name;
  for (const CommandText& each : command.commands) command_names(each, out);
}

// One function that looks at the words typed so far.
std::string bash_completion(const CommandText& tool) {
  std::string cases;
  bash_cases(tool, cases);
  std::string commands;
  command_names(tool, commands);
  return fmt::format(R"(# Completion of kwind for bash. Made by `kwind manual`; changes are lost.
_kwind() {{
  local current=${{COMP_WORDS[COMP_CWORD]}} previous=${{COMP_WORDS[COMP_CWORD - 1]}} command=kwind words="" files="" i
  for ((i = 1; i < COMP_CWORD; i++)); do
    case "${{COMP_WORDS[i]}}" in
      -*) ;;
      *) case "{}," in *",$command ${{COMP_WORDS[i]}},"*) command="$command ${{COMP_WORDS[i]}}" ;; esac ;;
    esac
  done
  case "$command" in
{}  esac
  case "|$files|" in
    *"|$previous|"*) COMPREPLY=($(compgen -f -- "$current")); return ;;
  esac
  COMPREPLY=($(compgen -W "$words" -- "$current"))
  if [ ${{#COMPREPLY[@]}} -eq 0 ]; then COMPREPLY=($(compgen -f -- "$current")); fi
}}
complete -o filenames -F _kwind kwind
)",
                     commands, cases);
}

// Characters that mean something to zsh are escaped.
std::string zsh_text(std::string_view text) {
  std::string out;
  for (const char c : text) {
    if (c == '\'') {
      out += "'\\''";
    } else if (c == ':' || c == '[' || c == ']' || c == '\\') {
      out += '\\';
      out += c;
    } else {
      out += c;
    }
  }
  return out;
}

// A function for each command.
void zsh_functions(const CommandText& command, std::string& out) {
  std::string name = page_name(command.name);
  for (char& c : name) c = c == '-' ? '_' : c;
  out += fmt::format("_{}() {{\n  _arguments -C \\\n", name);
  for (const auto& entry : command.entries) {
    const std::string value =
        entry.value.empty() ? "" : fmt::format(":value:{}", entry.is_file ? "_files" : "");
    for (const std::string& literal : entry.literals) {
      out += fmt::format("    '{}[{}]{}' \\\n", literal, zsh_text(entry.about), value);
    }
  }
  if (command.commands.empty()) {
    out += "    '*:file:_files'\n}\n";
    return;
  }
  out += fmt::format(
      "    '1:command:->command' '*::rest:->rest'\n  case $state in\n"
      "    command)\n      local -a commands=(\n");
  for (const CommandText& each : command.commands) {
    out += fmt::format("        '{}:{}'\n", last_word(each.name), zsh_text(each.about));
  }
  out += fmt::format(
      "      )\n      _describe command commands ;;\n    rest) _call_function - "
      "_{}_$words[1] ;;\n  esac\n}}\n",
      name);
  for (const CommandText& each : command.commands) zsh_functions(each, out);
}

}  // namespace

// Pages and completions, with the paths under which they are installed.
std::vector<ManualFile> manual_files(const CommandText& tool, const std::string& version,
                                     const std::string& date) {
  std::vector<ManualFile> out;
  add_pages(tool, version, date, out);
  out.push_back({"bash-completion/completions/kwind", bash_completion(tool)});
  std::string zsh =
      "#compdef kwind\n# Completion of kwind for zsh. Made by `kwind manual`; changes are lost.\n";
  zsh_functions(tool, zsh);
  out.push_back({"zsh/vendor-completions/_kwind", zsh + "_kwind \"$@\"\n"});
  return out;
}

}  // namespace kwind::tool
