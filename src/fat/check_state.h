#pragma once
// What the parts of the FAT check gather and share.

#include <string>
#include <vector>

#include <nuvrat/error.h>
#include <nuvrat/file_tree.h>

#include "base/finding_log.h"
#include "fat/check.h"
#include "fat/copies.h"
#include "fat/fit.h"

namespace nuvrat::fat {

struct CheckState {
  /// Held against that copy of the FAT, unless none is named: against the one that counts.
  CheckState(const Device& from, const ReadOptions& options,
             std::optional<std::uint32_t> copy = std::nullopt)
      : device(from),
        page(options.codepage),
        boot(from.read(0)),
        g(fitting_geometry_of(from, boot)),
        ratio(g.sector_bytes / from.sector_size()),
        map(from, g, copy.value_or(g.active_fat)),
        chains(map.budget()),
        agreement(map) {
    g.active_fat = copy.value_or(g.active_fat);
    facts.geometry = g;
  }
  CheckState(const CheckState&) = delete;
  CheckState& operator=(const CheckState&) = delete;

  struct Claim {
    std::uint32_t first, count, node;
  };

  const Device& device;
  CodePage page;
  Bytes boot;
  Geometry g;
  std::uint32_t ratio;
  Map map;
  base::Budget chains;
  Agreement agreement;
  base::FindingLog log;
  Facts facts;
  static constexpr FileTree::Id root = FileTree::root;  ///< for the volume itself, too
  FileTree tree;                                        ///< names of folders and files
  std::vector<Claim> claims;                            ///< which node has which clusters
  CopyMerge::Counts copies;                             ///< entries of the other FATs that differ
  std::uint64_t differs_at = 0;  ///< where copies do, in the volume's sectors

  struct Spot {
    std::optional<std::uint64_t> sector;  // of the volume
    std::uint32_t node;
  };
  void add(Rule code, Severity severity, Spot at, std::string text, bool repairable = false) {
    if (at.sector) *at.sector *= ratio;
    log.add(
        code, severity, [&] { return Place{.sector = at.sector, .path = tree.path(at.node)}; },
        std::move(text), repairable);
  }
  void not_clean(std::uint64_t sector) {
    add(Rule::fat_not_clean, Severity::error, {sector, root},
        "the FAT says that the volume was not closed properly, or that errors were seen; start it "
        "once under the system that owns it, or check it there");
  }
  void error(Rule code, std::uint32_t node, std::string text, bool repairable = false) {
    add(code, Severity::error, {{}, node}, std::move(text), repairable);
  }
};

/// Walks every folder: entries, names, and whose chains are whose.
void check_folders(CheckState& state);

}  // namespace nuvrat::fat
