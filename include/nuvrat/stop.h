#pragma once
// Work that a std::stop_token stops: for programs that run jobs in a std::jthread.

#include <stop_token>
#include <utility>

#include <nuvrat/progress.h>

namespace NUVRAT_API nuvrat {

/// Asks the work to stop at its next safe point once the token is told to, and passes everything on
/// to `inner`, which must outlive it. The token may be told from any thread.
class StopOnToken final : public Progress {
 public:
  StopOnToken(std::stop_token token, Progress& inner) : token_(std::move(token)), inner_(inner) {}

  void stage(std::string_view name, std::uint64_t total) override { inner_.stage(name, total); }
  void advance(std::uint64_t bytes) override { inner_.advance(bytes); }
  void job_share(double share) override { inner_.job_share(share); }
  [[nodiscard]] bool cancelled() const override {
    return token_.stop_requested() || inner_.cancelled();
  }
  void end_awaited() override { inner_.end_awaited(); }

 private:
  std::stop_token token_;
  Progress& inner_;
};

}  // namespace nuvrat
