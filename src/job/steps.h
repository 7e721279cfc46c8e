#pragma once
// The part of a job that writes: every step with its record in the undo journal.

#include <nuvrat/error.h>

#include "job/run.h"
#include "tree/recording.h"

namespace nuvrat::job {

/// Throws Error (busy) when something else uses the disk, or wrote to it since it was opened: in
/// the hours that reading takes others may have come.
void require_writable(const Device& device);
void require_undisturbed(const Device& device);

/// Every step played through: one overlay on the other, so that each shows the disk after its step.
struct Rehearsal {
  std::vector<std::unique_ptr<Overlay>> after;  ///< by step
  std::vector<Inspection> inspections;          ///< by step
  [[nodiscard]] SectorSet written() const;
  /// The last thing before the first write: nobody else is at the disk, and there is room on it for
  /// all of it and for the way back. Throws Error (busy, refused).
  void make_ready(Device& device) const {
    require_undisturbed(device);
    device.reserve(written());
  }
  /// The most that the undo journal of the whole job can take.
  [[nodiscard]] std::uint64_t journal_bytes(const Device& device, Undo undo) const;
};

/// Steps from `first` on.
[[nodiscard]] Rehearsal rehearse_steps(Device& device, const Assessment& assessment,
                                       unsigned first);

/// Does the steps from `first` on, as rehearsed. Before the first switch of all, a stop or an error
/// of whatever kind puts the disk back; later ones throw Error (cut_off). False when something that
/// was read back may have come from the system's memory.
bool do_steps(const Run& run, unsigned first, const Rehearsal& rehearsal, Journal& journal);

/// The case's folder is gone while a job runs, and the way back with it once this program ends:
/// what was written goes back now, from the journal that is still open. Throws Error: file when the
/// disk is as it was, cut_off when it couldn't be put back.
[[noreturn]] void put_back_without_case(Device& device, Journal& journal, Case& folder);

/// Of a job whose last step is done: takes the manifest from the device, compares it with what was
/// recorded `before` and is expected, and saves it in the case. First every sector of the journal
/// must hold on the medium what the last step left. Every failure is an Error (not_compared).
[[nodiscard]] JobResult compare_done(const Run& run, const tree::Recording& before,
                                     Journal& journal);

/// A job from its manifest to its comparison, in a case that exists.
[[nodiscard]] JobResult run_in_case(const Run& run);

/// Memory, threads, whatever else a program may lack: said like every other failure.
[[nodiscard]] Error as_error(const std::exception& e);
/// What ends a job, once sectors may have been written and not put back: cut_off, unless it is said
/// already in what state the disk is.
[[nodiscard]] Error ending(const std::exception& cause, const Case& folder);
/// What a device error becomes once a switch may have happened: resume or revert applies.
[[nodiscard]] Error cut_off(const Error& cause, const Case& folder);

/// Throws Error (guard) unless the table reads as the layout without errors.
void require_layout(const Layout& wanted, const TableReading& reading, const char* where);

}  // namespace nuvrat::job
