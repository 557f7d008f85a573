// The commands of `kwind`. Each adds its options to the command line and returns an exit code.
#pragma once
#include <functional>
#include <string>

#include "generate.h"
#include "options.h"

namespace kwind::tool {

/// Each registers a subcommand; `*chosen` is set to what runs it.
void add_budget(Command app, std::function<int()>& chosen);
void add_check(Command app, std::function<int()>& chosen);
void add_gen(Command app, std::function<int()>& chosen);
void add_diagnose(Command app, std::function<int()>& chosen);
void add_fmt(Command app, std::function<int()>& chosen);
void add_compare(Command app, std::function<int()>& chosen);
void add_explain(Command app, std::function<int()>& chosen);
void add_encode(Command app, std::function<int()>& chosen);
void add_decode(Command app, std::function<int()>& chosen);
void add_keys(Command app, std::function<int()>& chosen);
void add_lag(Command app, std::function<int()>& chosen);
void add_relay(Command app, std::function<int()>& chosen);
void add_load(Command app, std::function<int()>& chosen);
void add_talk(Command app, std::function<int()>& chosen);
void add_record(Command app, std::function<int()>& chosen);
void add_train(Command app, std::function<int()>& chosen);
void add_ticket(Command app, std::function<int()>& chosen);
void add_demo(Command app, std::function<int()>& chosen);
/// Writes what all commands of `line` say of themselves; borrows it.
void add_manual(Command app, std::function<int()>& chosen, const CommandLine& line);

}  // namespace kwind::tool
