// What a viewer has for itself: its place on a course, what it heard since the last frame, and its
// client's inputs. One thread.
#pragma once
#include <array>
#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <utility>
#include <vector>

#include "courses.h"
#include "frame_code.h"
#include "kwind/replica/viewer.h"
#include "report_code.h"

namespace kwind::replica {

struct Viewer::State {
  State(World::State& world, const ViewerOptions& options)
      : courses(courses_of(world)), course(&courses->enter(world, options)) {}
  State(const State&) = delete;
  State& operator=(const State&) = delete;
  ~State() { courses->leave(*course); }

  static constexpr std::size_t kHotBytes = 2 * bits::kCacheLineBytes;

  std::shared_ptr<Courses> courses;
  Course* course;
  std::vector<std::uint32_t> acks;  // frames heard to have arrived since the last was made
  Sight* sight = nullptr;           // that is asked in each tick
  std::uint32_t input = 0;
  bool any_input = false;
  Room room;
  std::uint64_t head_bits = 0;  // sent so far
  ViewerCounts elsewhere;       // before it joined its course, less what that counted before
  ViewerCounts counts;          // scratch of Viewer::counts()
  std::function<void(const Drifted&)> drift_handler;
  std::uint32_t reported_at = 0;      // tick in which a report was heard last; 0: never
  std::uint32_t reported_digest = 0;  // frame of the digest that it was about
  std::uint32_t resynced_at = 0;      // tick of the last full resync that a client asked for
  // FrameMark::input of frames sent.
  std::array<std::uint32_t, 2 * std::size_t{kFrameWindow}> inputs{};

  // To be changed.
  Course& own() {
    if (course->is_shared()) course = &courses->part(*course);
    return *course;
  }
  // Where others are with whom it is in step again.
  void rejoin();
  // Writes a frame of its own course; fills in the step that this is, if there is one, and whether
  // others may take it.
  std::optional<std::uint64_t> tell(bits::Writer& out, Step* made, bool& whole);
  // The field of an entity in which a client's report differs from what it was told; nothing if
  // none does, or it cannot be told. `fits`: whether the report has the entity's columns.
  std::optional<std::string_view> differing_field(const ReportedEntity& each, bool& fits);
  // As another did. Nothing if there is no room for its frame.
  std::optional<std::uint64_t> follow(const Step& step, bits::Writer& out);

 private:
  static std::shared_ptr<Courses> courses_of(World::State& world) {
    if (world.courses == nullptr) world.courses = std::make_shared<Courses>();
    return world.courses;
  }
  struct Head {
    std::array<std::byte, 32> bytes{};  // more than any takes
    std::size_t bits = 0;
    std::uint32_t input = 0;
  };
  [[nodiscard]] Head head_of(const Heading& heading) const;
  void send(bits::Writer& out, const Heading& heading, const Head& head,
            std::span<const std::byte> body, std::size_t bits);
};

}  // namespace kwind::replica
