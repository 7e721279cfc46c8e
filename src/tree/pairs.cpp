#include "tree/pairs.h"

#include <algorithm>
#include <map>
#include <optional>
#include <unordered_set>
#include <utility>

#include <nuvrat/text.h>

namespace nuvrat {
using namespace tree;
namespace {

class Pairing {
 public:
  Pairing(const FileTree& now, const Renamings& renamed, NodePairs& pairs)
      : now_(now), renamed_(renamed), pairs_(pairs) {}

  void run(RecordedNodes& recorded) {
    for (RecordedNode node; recorded.next(node);) {
      if (node.parent != folder_) begin_folder(node.parent);
      if (here_) take(node);
    }
    end_folder();
    // Folders that held nothing.
    while (!open_.empty()) {
      open_folder(open_.begin());
      end_folder();
    }
  }

 private:
  // A folder of both sides, of which the contents are still to come.
  struct Folder {
    FileTree::Id now;
    std::u16string path;  // then
  };
  using Open = std::map<FileTree::Id, Folder>;

  void begin_folder(FileTree::Id then) {
    end_folder();
    folder_ = then;
    if (const auto it = open_.find(then); it != open_.end()) open_folder(it);
  }

  void open_folder(Open::iterator it) {
    here_ = std::move(it->second);
    open_.erase(it);
    there_ = now_.sorted_children(here_->now);
    at_ = 0;
    const auto renamed = renamed_.find(here_->path);
    if (renamed == renamed_.end()) return;
    for (const auto& [old, name] : renamed->second) {
      const auto same = std::lower_bound(
          there_.begin(), there_.end(), name,
          [this](FileTree::Id id, const std::u16string& wanted) { return now_.name(id) < wanted; });
      if (same != there_.end() && now_.name(*same) == name) {
        become_[old] = *same;
        taken_.insert(*same);
      }
    }
  }

  void end_folder() {
    if (here_) pass_until(there_.size());
    here_.reset();
    become_.clear();
    taken_.clear();
  }

  // What is there now and wasn't then, up to `end`, but for what renamed ones have become.
  void pass_until(std::size_t end) {
    for (; at_ < end; ++at_) {
      const FileTree::Id id = there_[at_];
      if (taken_.count(id) == 0) pairs_.came(id);
    }
  }

  void take(const RecordedNode& node) {
    std::size_t end = at_;
    while (end < there_.size() && now_.name(there_[end]) < node.name) ++end;
    pass_until(end);
    if (at_ < there_.size() && now_.name(there_[at_]) == node.name) {
      both(node, there_[at_++]);
    } else if (const auto it = become_.find(node.name); it != become_.end()) {
      both(node, it->second);
    } else {
      pairs_.gone(node, here_->path);
    }
  }

  void both(const RecordedNode& node, FileTree::Id now) {
    pairs_.both(node, here_->path, now);
    if (node.info.directory && now_.is_directory(now))
      open_.emplace(node.id, Folder{now, path_in(here_->path, node.name)});
  }

  const FileTree& now_;
  const Renamings& renamed_;
  NodePairs& pairs_;
  Open open_{{FileTree::root, {FileTree::root, {}}}};
  FileTree::Id folder_ = FileTree::none;
  std::optional<Folder> here_;  // none: the folder that comes is on one side alone
  std::vector<FileTree::Id> there_;
  std::size_t at_ = 0;
  std::map<std::u16string, FileTree::Id> become_;  // by the old name
  std::unordered_set<FileTree::Id> taken_;         // the same
};

}  // namespace

Renamings tree::renamings(const std::vector<ExpectedChange>& changes, PartitionId partition) {
  Renamings out;
  for (const ExpectedChange& c : changes) {
    if (c.kind != ExpectedChange::Kind::renamed || c.partition != partition) continue;
    const std::u16string path = to_utf16(c.path);
    const std::size_t slash = path.rfind(u'/');
    const std::size_t name = slash == path.npos ? 0 : slash + 1;
    out[path.substr(0, name == 0 ? 0 : slash)][path.substr(name)] = to_utf16(c.text);
  }
  return out;
}

void tree::pair_nodes(RecordedNodes& recorded, const FileTree& now, const Renamings& renamed,
                      NodePairs& pairs) {
  Pairing(now, renamed, pairs).run(recorded);
}

std::u16string tree::path_in(const std::u16string& folder, std::u16string_view name) {
  std::u16string out = folder;
  if (!out.empty()) out += u'/';
  out += name;
  return out;
}

}  // namespace nuvrat
