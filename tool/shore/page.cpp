// The page as text: a large literal that nothing else has to compile.
#include <string_view>

#include "shore/page_text.h"
#include "shore/shore_server.h"

namespace kwind::shore {

std::string_view page_text() {
  return kPageText;
}

}  // namespace kwind::shore
