#include "terminal.h"

#include <algorithm>
#include <atomic>
#include <cerrno>
#include <chrono>
#include <clocale>
#include <csignal>
#include <cstdlib>
#include <exception>
#include <iostream>

#include <fcntl.h>
#include <fmt/core.h>
#include <langinfo.h>
#include <sys/ioctl.h>
#include <unistd.h>
#if defined(__GLIBC__)
#include <malloc.h>
#endif

#include <nuvrat/checksum.h>
#include <nuvrat/columns.h>
#include <nuvrat/text.h>

namespace {

volatile std::sig_atomic_t stop_asked = 0;

extern "C" void on_signal(int) {
  stop_asked = 1;
}

// One less than the terminal has, so that the line never breaks.
std::size_t columns() {
  winsize size{};
  if (::ioctl(STDERR_FILENO, TIOCGWINSZ, &size) != 0 || size.ws_col < 2) return 79;
  return std::min<std::size_t>(size.ws_col - 1u, 79);
}

double seconds_now() {
  return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

}  // namespace

nuvrat::TextStyle output_style() {
  nuvrat::TextStyle style;
  const bool terminal = ::isatty(STDOUT_FILENO) == 1;
  winsize size{};
  if (terminal && ::ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0 && size.ws_col > 0)
    style.width = size.ws_col;
  if (terminal && size.ws_row > 0) style.height = std::max<unsigned>(size.ws_row, 24);
  if (const char* columns = std::getenv("COLUMNS")) {
    if (const int wanted = std::atoi(columns); wanted > 0)
      style.width = static_cast<unsigned>(wanted);
  }
  style.width = std::clamp(style.width, 40u, 160u);
  const auto setting = [](const char* name) {
    const char* value = std::getenv(name);
    return std::string(value == nullptr ? "" : value);
  };
  style.colour = terminal && setting("NO_COLOR").empty() && !setting("TERM").empty() &&
                 setting("TERM") != "dumb";
  return style;
}

std::string shown(const std::string& text) {
  static const bool utf8 = std::setlocale(LC_CTYPE, "") != nullptr &&
                           std::string_view(::nl_langinfo(CODESET)) == "UTF-8";
  return utf8 ? text : nuvrat::ascii_text(text);
}

bool has_person() {
  return ::isatty(STDIN_FILENO) == 1 && ::isatty(STDERR_FILENO) == 1;
}

std::string ask(const std::string& question) {
  std::cerr << question << std::flush;
  std::string answer;
  std::getline(std::cin, answer);
  return answer;
}

namespace {

std::atomic<bool> begun{false};

// Some libraries end the program where even a clean-up finds no memory. It still has its words, and
// a status.
[[noreturn]] void end_without_memory() {
  constexpr std::string_view text =
      "stopped, the machine failed, most likely for want of memory\n"
      "  what to do: if a case was begun, 'nuvrat resume' on it says where the job is\n";
  (void)!::write(2, text.data(), text.size());
  ::_exit(begun ? 5 : 4);
}

}  // namespace

void prepare_process() {
  for (int file = 0; file < 3; ++file) {
    if (::fcntl(file, F_GETFD) < 0) (void)::open("/dev/null", file == 0 ? O_RDONLY : O_WRONLY);
  }
  for (const int number : {SIGPIPE, SIGXFSZ}) {
    struct sigaction action {};
    action.sa_handler = SIG_IGN;
    ::sigaction(number, &action, nullptr);
  }
  // The library that hashes doesn't survive want of memory while it starts: before any disk is
  // open.
  (void)nuvrat::Sha256::of({});
#if defined(__GLIBC__)
  // One heap: what threads leave in heaps of their own doesn't go back to the system.
  ::mallopt(M_ARENA_MAX, 1);
#endif
  std::set_terminate(end_without_memory);
  ::signal(SIGABRT, [](int) { end_without_memory(); });  // their assertions
}

bool finish_output() {
  errno = 0;
  std::cout.flush();
  if (std::cout.good()) return true;
  if (errno == EPIPE) return true;  // '| head' has read what it wanted
  std::cerr << "standard output could not be written to its end\n";
  return false;
}

bool job_begun() {
  return begun;
}

void begin_job() {
  begun = true;
  struct sigaction action {};
  action.sa_handler = on_signal;
  sigemptyset(&action.sa_mask);
  action.sa_flags = SA_RESTART;
  for (const int number : {SIGINT, SIGTERM, SIGHUP, SIGQUIT}) {
    struct sigaction now {};
    const bool ignored =
        ::sigaction(number, nullptr, &now) == 0 && now.sa_handler == SIG_IGN && number == SIGHUP;
    if (!ignored) ::sigaction(number, &action, nullptr);  // nohup asked for that
  }
}

TerminalProgress::TerminalProgress(bool quiet)
    : quiet_(quiet), live_(::isatty(STDERR_FILENO) == 1) {}

void TerminalProgress::end_awaited() {
  if (said_) return;
  said_ = true;
  end_line();
  std::cerr << "the switch is made: what follows is finished first, please wait\n" << std::flush;
}

void TerminalProgress::stage(std::string_view name, std::uint64_t total) {
  name_ = name;
  total_ = total;
  done_ = 0;
  begun_ = drawn_ = seconds_now();
  if (job_begun_ == 0) job_begun_ = begun_;
  if (quiet_) return;
  if (live_) {
    draw();
  } else {
    std::cerr << name_ << (total > 0 ? ", " + nuvrat::format_bytes(total) : "") << '\n';
  }
}

void TerminalProgress::advance(std::uint64_t bytes) {
  done_ += bytes;
  if (quiet_ || !live_) return;  // called for every file
  if (const double now = seconds_now(); now - drawn_ > 0.1) {
    drawn_ = now;
    draw();
  }
}

bool TerminalProgress::cancelled() const {
  return stop_asked != 0;
}

namespace {

std::string left_words(double seconds) {
  return seconds < 100    ? fmt::format("{:.0f} s", seconds)
         : seconds < 6000 ? fmt::format("{:.0f} min", seconds / 60)
                          : fmt::format("{:.1f} h", seconds / 3600);
}

}  // namespace

void TerminalProgress::draw() {
  if (name_.empty()) return;
  constexpr std::size_t bar = 24;
  // Of the whole job where that is known, else of the stage.
  const bool whole = job_ >= 0;
  const double share =
      whole         ? std::min(1.0, job_)
      : total_ == 0 ? 0
                    : std::min(1.0, static_cast<double>(done_) / static_cast<double>(total_));
  const auto full = static_cast<std::size_t>(share * bar);
  std::string cells;
  for (std::size_t i = 0; i < bar; ++i) cells += i < full ? "▰" : "▱";
  const double seconds = seconds_now() - begun_;
  std::string rate;
  if (seconds > 0.3 && done_ > 0) {
    const double speed = static_cast<double>(done_) / seconds;
    rate = nuvrat::format_bytes(static_cast<std::uint64_t>(speed)) + "/s";
    if (!whole && total_ > done_)
      rate += fmt::format(", {:.0f} s left", static_cast<double>(total_ - done_) / speed);
  }
  if (const double gone = seconds_now() - job_begun_; whole && share > 0.05 && gone > 2)
    rate +=
        fmt::format("{}{} left", rate.empty() ? "" : ", ", left_words(gone * (1 - share) / share));
  // A stage of unknown length has no share of its own.
  const std::string line =
      !whole && total_ == 0 ? name_ + "  " + rate
                            : fmt::format("{} {:3.0f} %  {}  {}", cells, share * 100, name_, rate);
  std::cerr << '\r' << shown(nuvrat::fit(line, columns(), true)) << std::flush;
  line_open_ = true;
}

void TerminalProgress::end_line() {
  if (!line_open_) return;
  std::cerr << '\r' << std::string(columns(), ' ') << '\r' << std::flush;
  line_open_ = false;
}
