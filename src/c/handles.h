// Handles of the C interface: a pointer that C code holds is a number in a table, never an address,
// so that a handle that was freed, or is of another type, is found out instead of followed.
//
// Rules
// H1. Every function of the interface runs within call(): no exception leaves it, and what it
//     returns is a kwind_result whose sentence stands in kwind_last_error().
// H2. An object is used by one call at a time: Held locks it, or says that another call has it.
// H3. A handle's number is not used again.
#pragma once
#include <fmt/format.h>

#include <atomic>
#include <cstdint>
#include <exception>
#include <memory>
#include <new>
#include <string>
#include <utility>

#include "kwind/c/kwind.h"
#include "kwind/core/errors.h"

namespace kwind::c {

enum class ObjectType : std::uint8_t { protocol, value, server, client };
const char* name_of(ObjectType type);

/// What a handle names.
struct Object {
  explicit Object(ObjectType of) : type(of) {}
  Object(const Object&) = delete;
  Object& operator=(const Object&) = delete;
  virtual ~Object() = default;

  const ObjectType type;
  std::atomic<bool> in_use = false;
};

/// Gives an object a handle, which is returned.
std::uintptr_t add_object(std::shared_ptr<Object> object);
/// The object of a handle; nullptr if there is none.
std::shared_ptr<Object> find_object(std::uintptr_t handle);
/// Ends a handle. Its object lives until the call that uses it has returned.
void remove_object(std::uintptr_t handle);

/// Notes the sentence of kwind_last_error(), and returns `result`.
kwind_result fail(kwind_result result, std::string text);
/// The same for an error of the protocol, with its sentence; KWIND_OK for none.
kwind_result from_errc(Errc code);
void clear_error();

/// Rule H1.
template <class Run>
kwind_result call(const Run& run) noexcept {
  try {
    clear_error();
    return run();
  } catch (const std::bad_alloc&) {
    return KWIND_E_MEMORY;  // there may be none left for a sentence, either
  } catch (const std::exception& error) {
    try {
      return fail(KWIND_E_INTERNAL, error.what());
    } catch (...) {
      return KWIND_E_INTERNAL;
    }
  } catch (...) {
    return KWIND_E_INTERNAL;
  }
}

/// The same for functions that return something else than a result.
template <class T, class Run>
T call_or(T otherwise, const Run& run) noexcept {
  try {
    clear_error();
    return run();
  } catch (...) {
    return otherwise;
  }
}

/// The object of a handle of C type Handle, which is a T of type kType, locked. False if the handle
/// names none, or another thread is in a call of the object: result() says which.
template <class T>
class Held {
 public:
  template <class Handle>
  explicit Held(const Handle* handle) {
    auto found = find_object(reinterpret_cast<std::uintptr_t>(handle));
    if (found == nullptr) {
      result_ = fail(KWIND_E_HANDLE, handle == nullptr
                                         ? fmt::format("the {} handle is NULL", name_of(T::kType))
                                         : fmt::format("the {} handle was freed, or never was one",
                                                       name_of(T::kType)));
      return;
    }
    if (found->type != T::kType) {
      result_ = fail(KWIND_E_HANDLE, fmt::format("a {} handle is given where a {} handle is wanted",
                                                 name_of(found->type), name_of(T::kType)));
      return;
    }
    // A flag in place of a mutex: nobody ever waits for it.
    if (found->in_use.exchange(true, std::memory_order_acquire)) {
      result_ = fail(KWIND_E_BUSY, fmt::format("another thread, or the caller itself, is in a call "
                                               "of this {}",
                                               name_of(T::kType)));
      return;
    }
    object_ = std::static_pointer_cast<T>(std::move(found));
  }
  Held(const Held&) = delete;
  Held& operator=(const Held&) = delete;
  ~Held() {
    if (object_ != nullptr) object_->in_use.store(false, std::memory_order_release);
  }
  explicit operator bool() const { return object_ != nullptr; }
  T* operator->() const { return object_.get(); }
  T& operator*() const { return *object_; }
  [[nodiscard]] const std::shared_ptr<T>& shared() const { return object_; }
  [[nodiscard]] kwind_result result() const { return result_; }

 private:
  std::shared_ptr<T> object_;
  kwind_result result_ = KWIND_OK;
};

/// Ends the handle of a T that no call uses.
template <class T, class Handle>
void free_object(const Handle* handle) noexcept {
  if (handle == nullptr) return;
  (void)call([&] {
    const Held<T> held(handle);
    if (!held) return held.result();
    remove_object(reinterpret_cast<std::uintptr_t>(handle));
    return kwind_result{KWIND_OK};
  });
}

template <class Handle>
Handle* handle_of(std::uintptr_t number) {
  return reinterpret_cast<Handle*>(number);  // NOLINT(performance-no-int-to-ptr): never followed
}

/// Checks the `size` of a struct of the caller: at least `first_size`, which it had when it came
/// into the interface; at most `known_size`, unless what lies beyond is 0. Errors:
/// KWIND_E_ARGUMENT, KWIND_E_SIZE.
kwind_result check_size(const void* in, std::size_t first_size, std::size_t known_size);

}  // namespace kwind::c
