// Where pilots were, in SQLite, written by a thread of its own so that no tick waits for a disk.
#include "pilot_store.h"

#include <sqlite3.h>

#include <atomic>
#include <deque>
#include <stdexcept>
#include <thread>

#include "kwind/route/handoff.h"

namespace harbour_example {
namespace {

// What the game asks of the store: one pilot's berth, or rows to write.
struct Job {
  bool is_question = false;
  std::string pilot{};
  std::vector<PilotStore::Row> rows{};
};

constexpr std::size_t kJobs = 1024;

}  // namespace

// Two queues join the threads: jobs to the store, answers to the game. Neither thread waits for the
// other one, unless the queue of answers is full.
struct PilotStore::Worker {
  explicit Worker(const std::string& file) {
    if (sqlite3_open(file.c_str(), &db) != SQLITE_OK) stop_with("cannot open " + file);
    // The write-ahead log makes a commit one append, and readers do not wait for it.
    run("PRAGMA journal_mode = WAL; PRAGMA synchronous = NORMAL;"
        "CREATE TABLE IF NOT EXISTS berths"
        " (pilot TEXT PRIMARY KEY, x REAL, y REAL, bearing REAL) WITHOUT ROWID;");
    prepare("SELECT x, y, bearing FROM berths WHERE pilot = ?1", &find);
    prepare("INSERT OR REPLACE INTO berths VALUES (?1, ?2, ?3, ?4)", &keep);
    thread = std::thread([this] { work(); });
  }
  // Jobs that wait are done first, so that no berth is lost.
  ~Worker() {
    ended.store(true, std::memory_order_release);
    count.fetch_add(1, std::memory_order_release);
    count.notify_one();
    if (thread.joinable()) thread.join();
    sqlite3_finalize(find);
    sqlite3_finalize(keep);
    sqlite3_close(db);
  }

  // Only while the store opens: afterwards a failure is counted.
  [[noreturn]] void stop_with(const std::string& what) {
    const std::string why = sqlite3_errmsg(db);
    sqlite3_close(db);
    throw std::runtime_error(what + ": " + why);
  }
  void run(const char* sql) {
    if (sqlite3_exec(db, sql, nullptr, nullptr, nullptr) != SQLITE_OK) stop_with("the store");
  }
  void prepare(const char* sql, sqlite3_stmt** to) {
    if (sqlite3_prepare_v2(db, sql, -1, to, nullptr) != SQLITE_OK) stop_with("the store");
  }

  // ---- the game's thread ----
  void put(Job&& job) {
    later.push_back(std::move(job));
    while (!later.empty() && jobs.put(std::move(later.front()))) later.pop_front();
    count.fetch_add(1, std::memory_order_release);
    count.notify_one();
  }

  // ---- the store's thread ----
  void work() {
    for (;;) {
      const unsigned before = count.load(std::memory_order_acquire);
      while (auto job = jobs.take()) {
        if (job->is_question) {
          look_up(job->pilot);
        } else {
          write(job->rows);
        }
      }
      if (ended.load(std::memory_order_acquire) && jobs.take_slot() == nullptr) return;
      count.wait(before, std::memory_order_acquire);
    }
  }
  // A pilot who is not in the store gets an answer without a berth.
  void look_up(const std::string& pilot) {
    Answer found{pilot};
    sqlite3_bind_text(find, 1, pilot.data(), static_cast<int>(pilot.size()), SQLITE_TRANSIENT);
    if (sqlite3_step(find) == SQLITE_ROW) {
      found.berth = Berth{sqlite3_column_double(find, 0), sqlite3_column_double(find, 1),
                          sqlite3_column_double(find, 2)};
    }
    sqlite3_reset(find);
    // NOLINTNEXTLINE(bugprone-use-after-move): what was not taken is untouched
    while (!answers.put(std::move(found))) std::this_thread::yield();
  }
  // All rows in one transaction, or none of them.
  void write(const std::vector<Row>& rows) {
    bool good = sqlite3_exec(db, "BEGIN", nullptr, nullptr, nullptr) == SQLITE_OK;
    for (const Row& row : rows) {
      sqlite3_bind_text(keep, 1, row.pilot.data(), static_cast<int>(row.pilot.size()),
                        SQLITE_TRANSIENT);
      sqlite3_bind_double(keep, 2, row.berth.x);
      sqlite3_bind_double(keep, 3, row.berth.y);
      sqlite3_bind_double(keep, 4, row.berth.bearing);
      good = sqlite3_step(keep) == SQLITE_DONE && good;
      sqlite3_reset(keep);
    }
    const char* const end = good ? "COMMIT" : "ROLLBACK";
    good = sqlite3_exec(db, end, nullptr, nullptr, nullptr) == SQLITE_OK && good;
    if (!good) lost += rows.size();
  }

  sqlite3* db = nullptr;
  sqlite3_stmt* find = nullptr;
  sqlite3_stmt* keep = nullptr;
  kwind::route::Handoff<Job> jobs{kJobs};
  kwind::route::Handoff<Answer> answers{kJobs};
  std::deque<Job> later;  // the game's: what the queue has no room for yet
  std::atomic<unsigned> count = 0;
  std::atomic<bool> ended = false;
  std::atomic<std::size_t> lost = 0;
  std::thread thread;
};

PilotStore::PilotStore(const std::string& file) : worker_(std::make_unique<Worker>(file)) {}
PilotStore::~PilotStore() = default;

void PilotStore::request(const std::string& pilot) {
  worker_->put({true, pilot, {}});
}
std::optional<PilotStore::Answer> PilotStore::answer() {
  return worker_->answers.take();
}
void PilotStore::write(std::vector<Row> rows) {
  if (!rows.empty()) worker_->put({false, {}, std::move(rows)});
}
std::size_t PilotStore::failed() const {
  return worker_->lost;
}

}  // namespace harbour_example
