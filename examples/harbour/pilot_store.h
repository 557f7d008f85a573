// Where each pilot's tug lies, kept in an SQLite file. Reading and writing happen on a thread of
// its own: the game never waits for a disk. Used by one thread, that of the game.
#pragma once
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace harbour_example {

struct Berth {
  double x = 0;
  double y = 0;
  double bearing = 0;
};

class PilotStore {
 public:
  /// Opens or makes the file. Throws std::runtime_error with what SQLite says.
  explicit PilotStore(const std::string& file);
  /// Writes what was handed over, then ends.
  ~PilotStore();

  /// Asks for a pilot's berth; answer() has it some ticks later.
  void request(const std::string& pilot);
  struct Answer {
    std::string pilot;
    std::optional<Berth> berth{};  ///< nothing: never seen before
  };
  std::optional<Answer> answer();

  struct Row {
    std::string pilot;
    Berth berth;
  };
  /// Hands rows over to be written, all or none. What was handed over survives the end of the
  /// process, however it ends, as soon as the thread has written it, some milliseconds later.
  void write(std::vector<Row> rows);
  /// Rows that could not be written so far, the disk being full for instance.
  [[nodiscard]] std::size_t failed() const;

 private:
  struct Worker;
  std::unique_ptr<Worker> worker_;
};

}  // namespace harbour_example
