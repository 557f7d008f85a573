// The commands of `kwind`. Each adds its options to the command line and returns an exit code.
#pragma once
#include <CLI/App.hpp>
#include <functional>
#include <string>

#include "generate.h"

namespace kwind::tool {

/// Each registers a subcommand; `*chosen` is set to what runs it.
void add_budget(CLI::App& app, std::function<int()>& chosen);
void add_check(CLI::App& app, std::function<int()>& chosen);
void add_gen(CLI::App& app, std::function<int()>& chosen);
void add_diagnose(CLI::App& app, std::function<int()>& chosen);
void add_fmt(CLI::App& app, std::function<int()>& chosen);
void add_compare(CLI::App& app, std::function<int()>& chosen);
void add_explain(CLI::App& app, std::function<int()>& chosen);
void add_encode(CLI::App& app, std::function<int()>& chosen);
void add_decode(CLI::App& app, std::function<int()>& chosen);
void add_keys(CLI::App& app, std::function<int()>& chosen);
void add_lag(CLI::App& app, std::function<int()>& chosen);
void add_relay(CLI::App& app, std::function<int()>& chosen);
void add_load(CLI::App& app, std::function<int()>& chosen);
void add_talk(CLI::App& app, std::function<int()>& chosen);
void add_record(CLI::App& app, std::function<int()>& chosen);
void add_train(CLI::App& app, std::function<int()>& chosen);
void add_ticket(CLI::App& app, std::function<int()>& chosen);
void add_demo(CLI::App& app, std::function<int()>& chosen);

}  // namespace kwind::tool
