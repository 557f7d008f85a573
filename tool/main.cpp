// `kwind`: a thin face over the library.
#include "commands.h"
#include "run_main.h"

namespace kwind::tool {
namespace {

void add_all(Command root, std::function<int()>& chosen, const CommandLine& line) {
  add_check(root, chosen);
  add_fmt(root, chosen);
  add_compare(root, chosen);
  add_explain(root, chosen);
  add_encode(root, chosen);
  add_decode(root, chosen);
  add_budget(root, chosen);
  add_gen(root, chosen);
  add_keys(root, chosen);
  add_ticket(root, chosen);
  add_train(root, chosen);
  add_lag(root, chosen);
  add_record(root, chosen);
  add_diagnose(root, chosen);
  add_relay(root, chosen);
  add_talk(root, chosen);
  add_load(root, chosen);
  add_demo(root, chosen);
  add_manual(root, chosen, line);
}

}  // namespace
}  // namespace kwind::tool

int main(int argc, char** argv) {
  return kwind::tool::run_main(argc, argv, kwind::tool::add_all);
}
