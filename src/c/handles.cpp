// The table of handles, and the sentence of the last error of each thread.
#include "c/handles.h"

#include <algorithm>
#include <cstring>
#include <mutex>
#include <unordered_map>

#include "kwind/io/clock.h"
#include "kwind/version.h"

namespace kwind::c {
namespace {

struct Table {
  std::mutex mutex;
  std::unordered_map<std::uintptr_t, std::shared_ptr<Object>> objects;
  std::uintptr_t last = 0;
};

// Never destroyed: a program may free its handles as late as it likes.
Table& table() {
  static Table* const made = new Table;  // NOLINT(cppcoreguidelines-owning-memory)
  return *made;
}

std::string& last_error() {
  thread_local std::string text;
  return text;
}

struct Misuse {
  kwind_result result;
  const char* name;
};
constexpr Misuse kMisuses[] = {
    {KWIND_OK, "KWIND_OK"},
    {KWIND_E_HANDLE, "KWIND_E_HANDLE"},
    {KWIND_E_ARGUMENT, "KWIND_E_ARGUMENT"},
    {KWIND_E_SIZE, "KWIND_E_SIZE"},
    {KWIND_E_BUSY, "KWIND_E_BUSY"},
    {KWIND_E_DESCRIPTION, "KWIND_E_DESCRIPTION"},
    {KWIND_E_NAME, "KWIND_E_NAME"},
    {KWIND_E_TYPE, "KWIND_E_TYPE"},
    {KWIND_E_LAYOUT, "KWIND_E_LAYOUT"},
    {KWIND_E_EMPTY, "KWIND_E_EMPTY"},
    {KWIND_E_NO_ENTITY, "KWIND_E_NO_ENTITY"},
    {KWIND_E_TOO_MANY, "KWIND_E_TOO_MANY"},
    {KWIND_E_MEMORY, "KWIND_E_MEMORY"},
    {KWIND_E_INTERNAL, "KWIND_E_INTERNAL"},
};

}  // namespace

// The word for a handle's type in error messages.
const char* name_of(ObjectType type) {
  switch (type) {
    case ObjectType::protocol: return "protocol";
    case ObjectType::value: return "value";
    case ObjectType::server: return "server";
    case ObjectType::client: return "client";
  }
  return "";
}

// Numbers look like pointers to C code: multiples of 16, so that a small integer is never one.
std::uintptr_t add_object(std::shared_ptr<Object> object) {
  Table& all = table();
  const std::lock_guard lock(all.mutex);
  all.last += 16;
  all.objects.emplace(all.last, std::move(object));
  return all.last;
}

// Handles are numbers, never addresses: a stale one finds nothing.
std::shared_ptr<Object> find_object(std::uintptr_t handle) {
  Table& all = table();
  const std::lock_guard lock(all.mutex);
  const auto found = all.objects.find(handle);
  return found == all.objects.end() ? nullptr : found->second;
}

// The object lives until the last call that uses it has returned.
void remove_object(std::uintptr_t handle) {
  std::shared_ptr<Object> removed;  // destroyed after the lock is released: it may free others
  Table& all = table();
  const std::lock_guard lock(all.mutex);
  const auto found = all.objects.find(handle);
  if (found == all.objects.end()) return;
  removed = std::move(found->second);
  all.objects.erase(found);
}

kwind_result fail(kwind_result result, std::string text) {
  last_error() = std::move(text);
  return result;
}

kwind_result from_errc(Errc code) {
  if (code == Errc::none) return KWIND_OK;
  return fail(static_cast<kwind_result>(code), std::string(error_info(code).text));
}

void clear_error() {
  last_error().clear();
}

// Structs begin with their size: an older caller's is shorter, and is accepted from the first one
// on.
kwind_result check_size(const void* in, std::size_t first_size, std::size_t known_size) {
  if (in == nullptr) return fail(KWIND_E_ARGUMENT, "a struct that is wanted is NULL");
  std::uint32_t size = 0;
  std::memcpy(&size, in, sizeof size);
  if (size < first_size) {
    return fail(KWIND_E_SIZE,
                fmt::format("the member `size` is {}; set it to sizeof of the struct, at least {}",
                            size, first_size));
  }
  if (size <= known_size) return KWIND_OK;
  // A struct of a later version: what this library does not know must be at its default. A size
  // that no version will reach is not read.
  constexpr std::size_t kLargest = 4096;
  const auto* const bytes = static_cast<const std::byte*>(in);
  if (size <= kLargest && std::all_of(bytes + known_size, bytes + size,
                                      [](std::byte each) { return each == std::byte{0}; })) {
    return KWIND_OK;
  }
  return fail(KWIND_E_SIZE,
              fmt::format("the member `size` is {}, and this library ({}) knows {} bytes of the "
                          "struct; the program was built for a later one",
                          size, KWIND_VERSION, known_size));
}

}  // namespace kwind::c

using kwind::c::kMisuses;

const char* kwind_version(void) {
  return KWIND_VERSION;
}

// Names of the C interface's own results, then those of Errc.
const char* kwind_result_name(kwind_result result) {
  for (const auto& [code, name] : kMisuses) {
    if (code == result) return name;
  }
  if (result > 0) {
    const kwind::ErrorInfo& info = kwind::error_info(
        kwind::error_from_number(static_cast<std::uint64_t>(result), kwind::Errc::none));
    if (info.code != kwind::Errc::none) return info.name.data();  // names are literals
  }
  return "unknown";
}

double kwind_now(void) {
  return std::chrono::duration<double>(kwind::io::now().time_since_epoch()).count();
}

const char* kwind_last_error(void) {
  return kwind::c::last_error().c_str();
}
