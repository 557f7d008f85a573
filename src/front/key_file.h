// Key files of the front: text without the white space at its end.
#pragma once
#include <string>

namespace kwind {

/// The contents of a file; empty if the file cannot be read.
std::string text_of_file(const std::string& path);

}  // namespace kwind
