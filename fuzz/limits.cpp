// What every fuzz target is held to, beyond what it asserts itself: the memory that one input makes
// the library hold and ask for, and the time that it takes. The bounds of a target are
// KWIND_FUZZ_HELD and KWIND_FUZZ_ASKED, bytes for an input of no length; each byte of an input adds
// kPerByte. With KWIND_FUZZ_SHOW in the environment each input that takes more than those before it
// is reported.
#include <malloc.h>
#include <time.h>

#include <cstdint>
#include <cstdio>
#include <cstdlib>
#include <new>

extern "C" int kwind_fuzz_one(const std::uint8_t* data, std::size_t size);

namespace {

constexpr std::size_t kPerByte = 4096;
constexpr double kSeconds = 5;  // with sanitizers, beside other work; a usual input takes 1 ms

struct Memory {
  std::size_t held = 0;
  std::size_t most = 0;   // held at once
  std::size_t asked = 0;  // in all: what is asked for is written, too, so that it stands for work
};
thread_local Memory memory;

void* take(std::size_t size) {
  void* const block = std::malloc(size == 0 ? 1 : size);
  if (block == nullptr) std::abort();
  const std::size_t taken = ::malloc_usable_size(block);
  memory.held += taken;
  memory.asked += taken;
  if (memory.held > memory.most) memory.most = memory.held;
  return block;
}
void give_back(void* block) {
  if (block == nullptr) return;
  memory.held -= ::malloc_usable_size(block);
  std::free(block);
}

double cpu_seconds() {
  timespec time{};
  ::clock_gettime(CLOCK_THREAD_CPUTIME_ID, &time);
  return static_cast<double>(time.tv_sec) + 1e-9 * static_cast<double>(time.tv_nsec);
}

void expect(double taken, double most, const char* what, std::size_t size) {
  if (taken <= most) return;
  std::fprintf(stderr, "an input of %zu bytes took %.0f %s, and may take %.0f\n", size, taken, what,
               most);
  std::abort();
}

}  // namespace

void* operator new(std::size_t size) {
  return take(size);
}
void* operator new[](std::size_t size) {
  return take(size);
}
void* operator new(std::size_t size, const std::nothrow_t&) noexcept {
  return take(size);
}
void* operator new[](std::size_t size, const std::nothrow_t&) noexcept {
  return take(size);
}
void operator delete(void* block) noexcept {
  give_back(block);
}
void operator delete[](void* block) noexcept {
  give_back(block);
}
void operator delete(void* block, std::size_t) noexcept {
  give_back(block);
}
void operator delete[](void* block, std::size_t) noexcept {
  give_back(block);
}

void operator delete(void* block, const std::nothrow_t&) noexcept {
  give_back(block);
}
void operator delete[](void* block, const std::nothrow_t&) noexcept {
  give_back(block);
}

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  // What a target makes once, and keeps.
  [[maybe_unused]] static const int first = kwind_fuzz_one(data, 0);
  const std::size_t before = memory.held;
  memory.most = before;
  memory.asked = 0;
  const double start = cpu_seconds();
  const int result = kwind_fuzz_one(data, size);
  const double seconds = cpu_seconds() - start;
  const std::size_t held = memory.most - before;
  static const bool shows = std::getenv("KWIND_FUZZ_SHOW") != nullptr;
  static double most_held = 0;
  static double most_asked = 0;
  const auto share = [&](std::size_t bytes) {
    return static_cast<double>(bytes) - static_cast<double>(kPerByte * size);
  };
  if (shows && (share(held) > most_held || share(memory.asked) > most_asked)) {
    if (share(held) > most_held) most_held = share(held);
    if (share(memory.asked) > most_asked) most_asked = share(memory.asked);
    std::fprintf(stderr, "%zu bytes: held %zu, asked for %zu, %.1f ms\n", size, held, memory.asked,
                 1000 * seconds);
  }
  const auto most = [&](std::size_t base) { return static_cast<double>(base + kPerByte * size); };
  expect(static_cast<double>(held), most(KWIND_FUZZ_HELD), "bytes of memory at once", size);
  expect(static_cast<double>(memory.asked), most(KWIND_FUZZ_ASKED), "bytes of memory in all", size);
  expect(1000 * seconds, 1000 * kSeconds, "ms", size);
  return result;
}
