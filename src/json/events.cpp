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

EventLog::EventLog(const std::filesystem::path& path, Progress& inner)
    : inner_(inner), out_(path, std::ios::trunc) {
  if (!out_) {
    throw Error(ErrorCode::file, "the file for events can't be written to", {.path = path.string()},
                "Name a file on another disk that may be written");
  }
}

void EventLog::stage(std::string_view name, std::uint64_t total) {
  close_stage();
  name_ = name;
  total_ = total;
  done_ = written_ = 0;
  last_ = std::chrono::steady_clock::now();
  Json line = event("stage");
  if (share_ >= 0) line["job_share"] = share_;
  line["stage"] = name_;
  line["total_bytes"] = total_;
  out_ << line << std::endl;
  inner_.stage(name, total);
}

void EventLog::advance(std::uint64_t bytes) {
  done_ += bytes;
  inner_.advance(bytes);
  const auto now = std::chrono::steady_clock::now();
  if (now - last_ < std::chrono::milliseconds(100)) return;
  last_ = now;
  write_progress();
}

void EventLog::job_share(double share) {
  share_ = share;
  inner_.job_share(share);
}

void EventLog::write_progress() {
  Json line = event("progress");
  if (share_ >= 0) line["job_share"] = share_;
  line["stage"] = name_;
  line["done_bytes"] = done_;
  line["total_bytes"] = total_;
  out_ << line << std::endl;
  written_ = done_;
}

void EventLog::close_stage() {
  if (done_ != written_) write_progress();
}

void EventLog::end(std::string_view verdict, int status) {
  close_stage();
  done_ = written_ = 0;
  Json line = event("end");
  line["verdict"] = printable(verdict);
  line["status"] = status;
  out_ << line << std::endl;
}

}  // namespace nuvrat
