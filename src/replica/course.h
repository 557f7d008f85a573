// What a client was told, and what it is known to have. Clients that are in step, told and heard of
// the same, have one course in common until they part; courses.h says how. viewer.cpp is what a
// viewer has for itself, course.cpp finds what there is to tell, course_choosing.cpp what of it
// goes into a frame, course_hearing.cpp what the client has, course_writing.cpp makes bits of the
// one by means of the other. One thread.
#pragma once
#include <algorithm>
#include <cstdint>
#include <memory>
#include <optional>
#include <span>
#include <utility>
#include <vector>

#include "code_set.h"
#include "copies.h"
#include "kwind/replica/viewer.h"
#include "parcel.h"
#include "sent_frames.h"
#include "state_code.h"
#include "world_state.h"

namespace kwind::replica {

/// Whether viewers with these options write the same frames to clients that heard the same.
bool are_same(const ViewerOptions& a, const ViewerOptions& b);

/// All that is particular to a course.
struct CourseMemory {
  Copies copies;
  SentFrames sent;
  Parcel parcel;
  std::uint32_t last_frame = 0;
  std::uint32_t start = 1;        // the first frame since all was told anew
  std::uint32_t sure = 0;         // the newest frame that is known to have arrived
  std::uint32_t movers_told = 0;  // tick for which the movers were told of
  std::uint32_t all_told = 0;     // tick of which there is nothing more to say, unless `news`
  bool news = true;
  bool lost_any = false;            // optimistic: what was built on has gone
  std::uint32_t digested = 0;       // frame that had the last digest
  std::uint64_t seen_revision = 0;  // of the sight that was last asked; 0: none
  ViewerCounts counts;
};

/// What stands before the values of a frame, but for what differs between clients in step.
struct Heading {
  FrameMark mark;
  std::uint32_t named = 0;  ///< the frame that it builds on, 0: none
  FrameMark named_mark;
  std::optional<std::uint32_t> digest;
  bool owes = false;  ///< it goes even if it says nothing
};

/// What a client's frames have for entities, in bits.
struct Room {
  std::size_t now = 0;       ///< behind the head
  std::size_t roomiest = 0;  ///< that one had of late
  std::size_t lost = 0;      ///< of `now`, to what is said in any case

  /// Notes what the frame at hand has.
  void note() {
    constexpr std::size_t kFades = 16;  // what so many frames ago had counts for little
    roomiest = std::max(now - lost, roomiest - roomiest / kFades);
  }
};

struct Course;

/// What the first viewer did that went on from a course in a tick, for those that heard the same.
struct Step {
  std::uint64_t view = 0;  // revision of the sight; 0: there is none
  std::vector<std::uint32_t> acks;
  Course* to = nullptr;
  bool says = false;  // there is a frame
  Heading heading;
  std::vector<std::byte> body;
  std::size_t bits = 0;       // of it
  Room room;                  // as it had it
  bool limited = false;       // another room would have made another frame
  std::uint64_t changes = 0;  // in it
};

struct Course : CourseMemory {
  Course(World::State& of, ViewerOptions options_in)
      : world(&of),
        options(std::move(options_in)),
        codes(options.codes != nullptr ? options.codes.get() : of.options.codes.get()),
        ids(of.ids) {}
  Course(const Course&) = delete;
  Course& operator=(const Course&) = delete;
  ~Course() { let_go(); }

  World::State* world;
  ViewerOptions options;
  const CodeSet* codes;
  std::shared_ptr<EntityIds> ids;
  Tally* tally = nullptr;
  // The world's, for the frame at hand.
  std::vector<std::uint32_t>& unsettled = world->desk.unsettled;
  std::vector<Candidate>& candidates = world->desk.candidates;
  std::vector<Mover>& movers = world->desk.movers;
  std::vector<Candidate*>& by_urgency = world->desk.by_urgency;
  std::vector<Entry>& entries = world->desk.entries;
  std::vector<std::byte>& bodies = world->desk.bodies;
  std::size_t bodies_end = 0;
  bool limited = false;  // the last frame would be another one in another room

  // Who is on it: see courses.h.
  std::size_t viewers = 0;
  std::size_t holds = 0;
  std::size_t leads = 0;       // steps that lead here
  bool kept = false;           // as it is, for others to join
  bool apart = false;          // it parted from others, once under way
  std::uint32_t compared = 0;  // tick in which it was, and found to be the ...
  Course* same_as = nullptr;
  std::vector<Step> steps;  // from here, in this tick: the first `steps_used`
  std::size_t steps_used = 0;

  /// Whether others are here, or may come: then it is not to be changed.
  [[nodiscard]] bool is_shared() const { return viewers > 1 || leads > 0 || kept; }
  /// As `other` is. Requires: the same world.
  void take_over(const Course& other) {
    let_go();
    static_cast<CourseMemory&>(*this) = static_cast<const CourseMemory&>(other);
    options = other.options;
    codes = other.codes;
    tally = nullptr;
    for (std::size_t i = 0; i < copies.size(); ++i) {
      if (copies[i].counted) ids->learn(copies.id(i));
    }
  }
  /// Counts for nobody any more.
  void let_go() {
    for (std::size_t i = 0; i < copies.size(); ++i) {
      if (copies[i].counted) ids->forget(copies.id(i));
      copies[i].counted = false;
    }
  }
  /// Whether all that is to come will be the same for both, whatever was before.
  [[nodiscard]] bool is_like(const Course& other);

  void see(std::span<const Seen> in_view);
  void see(Sight& sight);
  /// Whether see() would change nothing.
  [[nodiscard]] bool sees(std::span<const Seen> in_view);
  /// Looks, hears what arrived, and finds what there is to say; false if there is nothing.
  bool begin(Sight* sight, std::vector<std::uint32_t>& acks, Heading& heading);
  /// Puts all behind the head into Desk::frame, at most so many bits as there are for it; how many
  /// it takes, or nothing if nothing fits.
  std::optional<std::size_t> write(const Heading& heading, Room& room);
  void lose(std::uint32_t frame);
  [[nodiscard]] bool may_lose(std::uint32_t frame);
  [[nodiscard]] bool may_yet_be_read(std::uint32_t frame) const;
  /// Asks for the memory that begin() and write() will need: first the lists, then what is in them.
  void ask_for(bool entities);
  [[nodiscard]] std::size_t memory() const {
    return sizeof(Course) + copies.memory() + sent.memory() + parcel.memory();
  }

  [[nodiscard]] World::State& all() const { return *world; }
  [[nodiscard]] std::uint32_t tick() const { return all().tick - 1; }
  // The frame that the next one builds on; 0: none.
  [[nodiscard]] std::uint32_t base() {
    if (!options.optimistic || sure == 0) return sure;
    for (std::uint32_t frame = last_frame; frame > sure; --frame) {
      const Sent* const slot = sent.find(frame);
      if (slot != nullptr && !slot->lost) return frame;
    }
    return sure;
  }

  [[nodiscard]] bool taken_to_arrive(const Sent& frame) const {
    return frame.arrived || (options.optimistic && !frame.lost);
  }
  // To be called where a copy may have come to be known, or known no more.
  void count_who_knows(std::size_t place) {
    Copy& copy = copies[place];
    const bool known = copy.may_be_known();
    if (known == copy.counted) return;
    copy.counted = known;
    known ? ids->learn(copies.id(place)) : ids->forget(copies.id(place));
  }
  void hear(std::vector<std::uint32_t>& acks);
  void believe(Sent& frame);
  void lose(Sent& frame);
  void give_up(Sent& frame);
  [[nodiscard]] bool builds_on_lost(const FrameMark& mark);
  [[nodiscard]] std::uint32_t share_of_sure(std::size_t place);
  void build_again();
  void start_anew();
  [[nodiscard]] bool owes_word();
  std::size_t states_known(std::uint32_t id, const Held& held, KnownStates& known) const;
  [[nodiscard]] std::size_t find_unsettled();
  void gather();
  void consider(std::size_t place, const World::State::Brief& brief);
  [[nodiscard]] bool is_packed(std::size_t place) {
    const std::uint32_t id = copies.id(place);
    return parcel.is_of(id, all().briefs[id].generation, copies.look(place).owner);
  }
  void drop_parcel_of_no_use();
  void pack_what_no_frame_holds(std::size_t roomiest);
  bool narrow(std::size_t room);
  // The codes of what the client knows under an id.
  [[nodiscard]] const CodeSet::Inside::Kind& codes_of(const Held& held) const {
    return codes->inside().kinds[held.kind];
  }
  [[nodiscard]] std::size_t masks_of(const Held& held) const {
    return all().shapes[held.kind].masks();
  }
  // That of its symbols, at the age of what the client knows.
  [[nodiscard]] const PrefixCode& alphabet_of(const Held& held, bool mover) const {
    const auto& alphabets = mover ? codes_of(held).movers : codes_of(held).others;
    return alphabets[age_of(tick() - held.ticks[0])];
  }
  // Says of a mover that there is nothing to say.
  void write_nothing(bits::Writer& out, const Held& held);
  void write_symbol(bits::Writer& out, const Held& held, bool mover, std::size_t symbol);
  void write_bodies();
  void add_body(Candidate& each);
  void write_last_of_parcel(bits::Writer& out, Candidate& each) const;
  void write_whole_body(bits::Writer& out, Candidate& each) const;
  bool splice_change(Candidate& each);
  void write_change_body(bits::Writer& out, const Candidate& each);
  [[nodiscard]] Basis basis_of(const Candidate& each, KnownStates& known) const;
  struct MoverBits {
    std::size_t unchanged = 0;
    std::size_t changed = 0;
  };
  MoverBits mark_movers(const Sent& named);
  [[nodiscard]] std::size_t size_of(const Candidate& each) const;
  [[nodiscard]] bool fit_all(std::size_t room);
  void rank(std::span<const Entry> told_before);
  [[nodiscard]] std::size_t bits_of_places() const;
  std::size_t choose(std::size_t room);
  void tell(const FrameMark& mark);
  void tell(const FrameMark& mark, const Candidate& each);
  void write_body(bits::Writer& out, const Candidate& each);
  void write_movers(bits::Writer& out);
  void write_others(bits::Writer& out);
  void write_arrivals(bits::Writer& out, bool with_parts);
  ChunkRun write_parts(bits::Writer& out);
  // Digest of what an entity has by the newest tick.
  [[nodiscard]] std::uint32_t values_of(std::uint32_t id, bool owner) const;
  [[nodiscard]] std::optional<std::uint32_t> digest(std::uint32_t base) const;
  Drifted repair(std::uint32_t id, std::string_view field);
};

}  // namespace kwind::replica
