#!/usr/bin/env bash
# Calls of libraries that throw stand in one place each, behind a function that returns a result. Prints each line that breaks it.
set -u
cd "$(dirname "$0")/../.." || exit 2
wrong=0
# complain PATTERN WHY [FILE that may]...
complain() {
  local pattern=$1 why=$2
  shift 2
  local found
  found=$(grep -rnE "$pattern" src include tool examples --include='*.cpp' --include='*.h')
  for may in "$@"; do found=$(grep -v "^$may:" <<<"$found"); done
  # What names a variable for the error does not throw.
  found=$(grep -vE "nullptr, false|watch, false|[^a-z](error|ignored)\)|^$" <<<"$found")
  if [ -n "$found" ]; then
    echo "$found"
    echo "  $why"
    wrong=1
  fi
}
complain '(j|J)son::parse\(' 'use kwind::json::parse_text' src/json/text.cpp
complain '\.dump\(' 'use kwind::json::text_of' src/json/text.cpp src/ticket/ticket.cpp
complain 'toml::parse(_file)?\(' 'use kwind::budget::parse_toml' src/budget/toml_text.cpp
complain 'std::sto(i|l|ll|ul|ull|f|d|ld)\(' 'use std::from_chars'
complain '\.exceptions\(' 'look at the state of the stream'
complain 'std::regex' 'its constructor throws; write the comparison'
complain 'CLI/|CLI::' 'use tool/options.h' tool/options.cpp tool/options.h
complain '(fs|filesystem)::(exists|is_directory|is_regular_file|is_empty|absolute|relative|canonical|weakly_canonical|equivalent|remove|remove_all|rename|copy|copy_file|file_size|resize_file|create_directory|create_directories|create_symlink|temp_directory_path|current_path|last_write_time|status|symlink_status|read_symlink|permissions|space)\([^()]*(\([^()]*\)[^()]*)*\)' \
  'give it a std::error_code called error or ignored'
exit $wrong
