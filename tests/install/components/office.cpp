// Uses the language and each component once: prints a message as JSON, a ticket's verdict and what
// a file that is no capture gives.
#include <cstdio>
#include <string>

#include "kwind/capture/pcapng.h"
#include "kwind/json/json.h"
#include "kwind/json/text.h"
#include "kwind/language/compile.h"
#include "kwind/schema/runtime.h"
#include "kwind/ticket/ticket.h"
#include "kwind/web/web_socket_transport.h"

int main() {
  const auto compiled = kwind::language::compile(
      "protocol office 1\nchannel notices ordered\n"
      "message Notice from server on notices { words : text 40, quay : int 1..9 }\n");
  if (!compiled.ok()) {
    std::puts(kwind::language::render(compiled.errors.front(), compiled).c_str());
    return 1;
  }
  const auto& notice = compiled.protocol.messages.front();
  auto value = kwind::schema::initial_value(compiled.protocol, notice.fields);
  value.items[0].text = "fog";
  value.items[1].whole = 7;
  std::puts(
      kwind::json::text_of(kwind::json::to_json(compiled.protocol, notice.fields, value)).c_str());
  const auto ticket = kwind::ticket::read_unchecked("no ticket");
  std::printf("read_unchecked: %s\n", error_info(ticket.error()).name.data());
  const auto web = kwind::web::WebSocketTransport::listen(
      kwind::Endpoint::loopback(0), {.certificate_file = "none", .private_key_file = "none"});
  std::printf("listen: %s\n", error_info(web.error()).name.data());
  const auto capture = kwind::capture::read_capture({});
  std::printf("read_capture: %s\n", error_info(capture.error()).name.data());
}
