#include <chrono>
#include <fstream>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/events.h>
#include <nuvrat/text.h>
#include <nuvrat/time.h>

#include "json/library.h"

namespace nuvrat {
using namespace json;
namespace {

Json event(const char* name) {
  return {{"schema", "nuvrat.event/1"}, {"time", format_time(now())}, {"event", name}};
}

}  // namespace

struct EventLog::Lines {
  explicit Lines(const std::string& path) : out(path, std::ios::trunc) {}

  std::ofstream out;
  std::string name;  // of the stage
  std::uint64_t total = 0, done = 0, written = 0;
  double share = -1;  // of the job; negative: not told
  std::chrono::steady_clock::time_point last;

  void write(const Json& line) { out << line << std::endl; }

  void write_progress() {
    Json line = event("progress");
    if (share >= 0) line["job_share"] = share;
    line["stage"] = name;
    line["done_bytes"] = done;
    line["total_bytes"] = total;
    write(line);
    written = done;
  }

  void close_stage() {
    if (done != written) write_progress();
  }
};

EventLog::EventLog(const std::string& path, Progress& inner)
    : inner_(inner), lines_(std::make_unique<Lines>(path)) {
  if (!lines_->out) {
    throw Error(ErrorCode::file, "the file for events can't be written to", {.path = path},
                "Name a file on another disk that may be written");
  }
}

EventLog::~EventLog() = default;

void EventLog::stage(std::string_view name, std::uint64_t total) {
  Lines& lines = *lines_;
  lines.close_stage();
  lines.name = name;
  lines.total = total;
  lines.done = lines.written = 0;
  lines.last = std::chrono::steady_clock::now();
  Json line = event("stage");
  if (lines.share >= 0) line["job_share"] = lines.share;
  line["stage"] = lines.name;
  line["total_bytes"] = total;
  lines.write(line);
  inner_.stage(name, total);
}

void EventLog::advance(std::uint64_t bytes) {
  lines_->done += bytes;
  inner_.advance(bytes);
  const auto now = std::chrono::steady_clock::now();
  if (now - lines_->last < std::chrono::milliseconds(100)) return;
  lines_->last = now;
  lines_->write_progress();
}

void EventLog::job_share(double share) {
  lines_->share = share;
  inner_.job_share(share);
}

void EventLog::end(std::string_view verdict, int status) {
  lines_->close_stage();
  lines_->done = lines_->written = 0;
  Json line = event("end");
  line["verdict"] = printable(verdict);
  line["status"] = status;
  lines_->write(line);
}

}  // namespace nuvrat
