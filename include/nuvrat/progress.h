#pragma once
// How long work tells where it is, and how it is asked to stop.

#include <cstdint>
#include <string_view>

#include <nuvrat/version.h>

namespace NUVRAT_API nuvrat {

/// Implemented by the caller. Every function may be called many times a second from the thread that
/// called the library; none may throw.
class Progress {
 public:
  Progress() = default;
  Progress(const Progress&) = default;
  Progress& operator=(const Progress&) = default;
  virtual ~Progress() = default;

  /// A new stage begins. `total` is in bytes, or 0 when it isn't known beforehand.
  virtual void stage(std::string_view name, std::uint64_t total) = 0;
  /// `bytes` more of the stage are done.
  virtual void advance(std::uint64_t bytes) = 0;
  /// How much of the whole job is done, 0 to 1; it never goes back. Only jobs say it, after
  /// stage() and advance().
  virtual void job_share(double /*share*/) {}
  /// True asks the work to stop at the next safe point. After the switch there is none until the
  /// settle is finished.
  [[nodiscard]] virtual bool cancelled() const = 0;
  /// The stop that was asked for came after the switch: the work goes on to its end.
  virtual void end_awaited() {}
};

/// Says nothing and never cancels.
class QuietProgress final : public Progress {
 public:
  void stage(std::string_view, std::uint64_t) override {}
  void advance(std::uint64_t) override {}
  [[nodiscard]] bool cancelled() const override { return false; }
};

}  // namespace nuvrat
