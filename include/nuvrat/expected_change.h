#pragma once
// The changes that a job is to make to files that a manifest records: a comparison must find these
// changes, no more and no less.

#include <cstdint>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include <nuvrat/layout.h>
#include <nuvrat/manifest.h>

namespace NUVRAT_API nuvrat {

struct ExpectedChange {
  enum class Kind {
    resized,     ///< a file says another size; what can be read of it stays the same
    added,       ///< a folder that wasn't there
    gone,        ///< a stream that the new format can't hold
    retimed,     ///< times that it can't hold become the nearest ones
    renamed,     ///< a name that it can't spell
    relabelled,  ///< the volume's label; no path
    begins,      ///< the partition begins at another sector; no path
    written,     ///< a file with other contents, or one that wasn't there
    folder,      ///< a folder that wasn't there; what is in it is listed, too
    opened,      ///< a volume where one range was recorded that could not be read; no path
  };
  Kind kind = Kind::resized;
  PartitionId partition = PartitionId::none;  ///< none: of a disk without a table
  std::string path{};                         ///< in the volume, UTF-8
  std::uint64_t size =
      0;  ///< resized, written: in bytes, afterwards; begins: the first sector then
  /// Retimed: the times afterwards; 0 for one that stays.
  Ticks created = 0, modified = 0, accessed = 0;
  /// Renamed, relabelled: the new name or label; written: the SHA-256 of the contents; opened: the
  /// volume's kind (name_of).
  std::string text{};
  bool operator==(const ExpectedChange&) const = default;
};
[[nodiscard]] const char* name_of(ExpectedChange::Kind kind);

/// Where a partition begins, before a job and after it.
struct PartitionStarts {
  PartitionId id = PartitionId::none;
  std::optional<std::uint64_t> before{};  ///< none: it is new
  std::optional<std::uint64_t> after{};   ///< none: it is to go
};

/// The disk that a job is to make: where partitions are then, and what becomes of their files.
class Expectation {
 public:
  /// Nothing changes.
  Expectation() = default;
  /// `changes` must outlive it.
  Expectation(std::vector<PartitionStarts> starts, const std::vector<ExpectedChange>& changes)
      : starts_(std::move(starts)), changes_(&changes) {}

  [[nodiscard]] const std::vector<ExpectedChange>& changes() const;
  /// The partition that begins there before; none where the table names none.
  [[nodiscard]] PartitionId id_before(std::uint64_t start) const;
  [[nodiscard]] PartitionId id_after(std::uint64_t start) const;
  /// Where a partition begins afterwards that began there; none when it is to go.
  [[nodiscard]] std::optional<std::uint64_t> start_after(std::uint64_t start) const;
  /// Where a partition began that begins there afterwards; none when it is new.
  [[nodiscard]] std::optional<std::uint64_t> start_before(std::uint64_t start) const;
  /// Where one begins before, or, where it is new, afterwards.
  [[nodiscard]] std::uint64_t first_start(PartitionId id) const;
  /// Whether a volume is to be where the range is that began there, which could not be read.
  [[nodiscard]] bool opens(std::uint64_t start) const;

 private:
  std::vector<PartitionStarts> starts_{};
  const std::vector<ExpectedChange>* changes_ = nullptr;
};

/// Turns what was recorded into what is expected, as far as a manifest can say it: sizes.
void expect(const Expectation& expectation, Manifest& recorded);

/// Holds `after` against what expect() made of the manifest before. Changes that were expected and
/// came are in Comparison::planned and don't count; those that didn't come are differences.
[[nodiscard]] Comparison compare_expected(const Manifest& expected, const Manifest& after,
                                          const Expectation& expectation);

}  // namespace nuvrat
