#pragma once
// The terminal: how wide it is, progress on it, questions to the person at it.

#include <string>

#include <nuvrat/progress.h>
#include <nuvrat/report.h>

/// Width and colour for standard output: COLUMNS or the terminal's own width, colour only there and
/// only without NO_COLOR.
[[nodiscard]] nuvrat::TextStyle output_style();
/// As the terminal can show it: plain ASCII where its character set is no UTF-8.
[[nodiscard]] std::string shown(const std::string& text);

/// True when a person can be asked.
[[nodiscard]] bool has_person();

/// Asks on standard error and returns what was typed.
[[nodiscard]] std::string ask(const std::string& question);

/// Before anything else: descriptors 0 to 2 are open, so that no disk can become one of them, and a
/// reader that goes away or a limit on files ends no write half way.
void prepare_process();
/// Everything is on standard output. False, and said, when it isn't.
[[nodiscard]] bool finish_output();

/// From now on a disk may be written: SIGINT, SIGTERM, SIGHUP and SIGQUIT ask the work to stop, and
/// whatever ends the program by itself leaves a case that says how far the job is.
void begin_job();
[[nodiscard]] bool job_begun();

/// On a terminal one line with a bar, rate and time left, taken away at the end; elsewhere a line
/// for each stage; on standard error.
class TerminalProgress final : public nuvrat::Progress {
 public:
  explicit TerminalProgress(bool quiet);
  TerminalProgress(const TerminalProgress&) = delete;
  TerminalProgress& operator=(const TerminalProgress&) = delete;
  ~TerminalProgress() override { end_line(); }
  /// Takes the line away.
  void finish() { end_line(); }

  void stage(std::string_view name, std::uint64_t total) override;
  void advance(std::uint64_t bytes) override;
  void job_share(double share) override { job_ = share; }
  [[nodiscard]] bool cancelled() const override;
  void end_awaited() override;

 private:
  void draw();
  void end_line();

  bool quiet_;
  bool live_;  // one line drawn again and again; else one line a stage
  bool line_open_ = false;
  bool said_ = false;  // that the end is awaited
  std::string name_;
  std::uint64_t total_ = 0;
  std::uint64_t done_ = 0;
  double begun_ = 0;
  double job_begun_ = 0;
  double job_ = -1;  // share of the job; negative: not told
  double drawn_ = 0;
};
