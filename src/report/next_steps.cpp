// What is left to the owner once the disk is done: nothing that a tool at the bench could do.

#include <algorithm>
#include <set>

#include <fmt/core.h>

#include <nuvrat/partition_type.h>
#include <nuvrat/report.h>
#include <nuvrat/text.h>

namespace nuvrat {
namespace {

const Partition* efi_system(const Layout& layout) {
  const auto it =
      std::find_if(layout.partitions.begin(), layout.partitions.end(),
                   [](const Partition& p) { return class_of(p.type) == TypeClass::efi_system; });
  return it == layout.partitions.end() ? nullptr : &*it;
}

void firmware_of_gpt(const Layout& after, std::vector<NextStep>& out) {
  const Partition* efi = efi_system(after);
  out.push_back(
      {"firmware", "Starting a computer from this disk",
       efi != nullptr ? "In the firmware settings choose UEFI, and put this disk first"
                      : "Nothing boots from it until it has an EFI system partition",
       efi != nullptr
           ? fmt::format("In its firmware settings choose UEFI instead of legacy or CSM, "
                         "and put this disk's entry first. The disk "
                         "has an EFI system partition, p{}.",
                         efi->number)
           : std::string("It can't yet: as it is now the disk boots by UEFI only, from an "
                         "EFI system partition, and it has none. The system's own repair "
                         "medium can make one in free room. Then choose UEFI in the "
                         "firmware settings and put its entry first.")});
}

void firmware_of_mbr(const Layout& after, std::vector<NextStep>& out) {
  const auto active = std::find_if(after.partitions.begin(), after.partitions.end(),
                                   [](const Partition& p) { return p.active; });
  out.push_back(
      {"firmware", "Starting a computer from this disk",
       active != after.partitions.end() ? "In the firmware settings choose legacy boot (CSM)"
                                        : "Nothing boots from it until a partition is active",
       active != after.partitions.end()
           ? fmt::format("In its firmware settings choose legacy boot (CSM) and put this "
                         "disk first. p{} is active: the system's own repair must put its "
                         "boot files and loader there.",
                         active->number)
           : std::string("It can't yet: no partition is active. Make one active (a goal "
                         "like p1.active=yes), let the system's own repair put its boot "
                         "files there, and choose legacy boot (CSM) in the firmware "
                         "settings.")});
}

// In the order of doing it. What the system itself does then is said as what it may do.
void steps_of_boot(const BootChange& s, std::vector<NextStep>& out) {
  const bool uefi = s.way == BootWay::uefi;
  out.push_back(
      {"firmware", "The settings of the machine's firmware",
       uefi ? "In the firmware settings choose UEFI; turn legacy boot (CSM) off"
            : "In the firmware settings choose legacy boot (CSM); turn UEFI off",
       uefi ? fmt::format("Turn the machine on and go into its firmware settings, mostly with a "
                          "key such as F2, F10 or Del. Choose UEFI boot; turn legacy boot (CSM) "
                          "off; leave Secure Boot as it is at first: the boot programs on p{} are "
                          "the system's own. {}",
                          s.boot_files,
                          s.machine == Machine::x86
                              ? "The system has 32 bits: the firmware must, too."
                          : s.machine == Machine::arm64
                              ? "The system is for arm64: so must the machine be."
                              : "The system has 64 bits, as the firmware of most machines has.")
            : fmt::format("Turn the machine on and go into its firmware settings, mostly with a "
                          "key such as F2, F10 or Del. Choose legacy boot (CSM); turn UEFI boot "
                          "and Secure Boot off. p{} is active, and holds the boot files.",
                          s.boot_files)});
  out.push_back({"first-entry", "The boot order", "Put this disk first in the boot order",
                 uefi
                     ? "Put this disk's entry first in the boot order. It is named after the disk, "
                       "or just UEFI with the disk. Older entries of the same system no longer "
                       "work."
                     : "Put this disk first in the boot order."});
  out.push_back({"first-start", "The first boot",
                 fmt::format("Boot it once; it may take longer, and check p{}", s.system),
                 fmt::format("It may take longer than usual, and the system may look for its "
                             "devices or check p{} once. {}",
                             s.system,
                             uefi ? "It may then add an entry of its own to the firmware's list: "
                                    "leave that first from then on."
                                  : "After it, boot once more to see that it stays so.")});
  out.push_back({"if-not", "If it doesn't boot", "If it doesn't boot, bring the disk back",
                 "Nothing is lost. When the machine says that there is nothing to boot, or the "
                 "system's repair comes again and again: turn it off, go through the settings "
                 "above once more, and let no repair write to the disk. If that doesn't help, "
                 "bring the disk back: it can be put back to what it was, as long as nothing was "
                 "written to it."});
  if (s.spare != 0)
    out.push_back({"spare", "A partition that is no longer needed",
                   fmt::format("Delete p{} once the system boots well", s.spare),
                   fmt::format("p{} is no longer needed: it held only the old boot files. Once the "
                               "system boots well, it can be deleted (p{}=gone).",
                               s.spare, s.spare)});
}

// "p1, p2"
class Names {
 public:
  void add(const Partition* p) {
    text_ += (text_.empty() ? "" : ", ") + (p == nullptr ? "the volume" : part_name(p->number));
  }
  [[nodiscard]] bool empty() const { return text_.empty(); }
  [[nodiscard]] const std::string& text() const { return text_; }

 private:
  std::string text_;
};

// Volumes that are of another kind now.
struct NewKinds {
  Names volumes, with_loaders, opened;
  std::string kind, kind_of_loaders;

  explicit NewKinds(const Assessment& a) {
    const Expectation expectation = a.expectation();
    for (const Contents& c : a.contents) {
      if (c.kind == c.kind_after || c.fate != Contents::Fate::stays) continue;
      const Partition* p = a.before.find(c.partition);
      kind = title_of(kind_named(c.kind_after));
      volumes.add(p);
      if (expectation.opens(p == nullptr ? 0 : p->start)) {
        opened.add(p);
      } else if (p != nullptr && p->active) {
        with_loaders.add(p);
        kind_of_loaders = title_of(kind_named(c.kind));
      }
    }
  }
};

void steps_of_letters(const Assessment& a, std::vector<NextStep>& out) {
  const bool kept = std::any_of(a.consents.begin(), a.consents.end(),
                                [](const Consent& c) { return c.code == ConsentCode::letters; });
  out.push_back(
      {"letters", "Drive letters",
       kept ? "Its own system keeps its drive letters; another may give others"
            : "Check drive letters and mount points: they may have changed",
       kept ? "The system on this disk keeps its drive letters. Another system may see "
              "the disk as a new one and give it others."
            : "A system may see the disk or a volume as a new one and give it another drive "
              "letter or mount point. Programs that name the old one must be told."});
}

// Of another size, label or start.
void steps_of_changed_volumes(const Assessment& a, std::vector<NextStep>& out) {
  std::set<PartitionId> said;
  for (const Contents& c : a.contents) {
    if (c.kind != c.kind_after) said.insert(c.partition);
  }
  Names changed;
  for (const Step& step : a.steps) {
    const VolumeChange* v = step.volume();
    if (v == nullptr || v->from != v->to) continue;
    if (!said.insert(step.partition()).second) continue;
    changed.add(a.after.find(step.partition()));
  }
  if (changed.empty()) return;
  out.push_back({"look-again", "Volumes that were changed in place",
                 fmt::format("Let the system check {} if it offers to", changed.text()),
                 fmt::format("The first system that opens {} may offer to check it. Let it, "
                             "before you write to it.",
                             changed.text())});
}

void steps_of_new_partitions(const Assessment& a, std::vector<NextStep>& out) {
  Names fresh;
  for (const Partition& p : a.after.data_partitions()) {
    const bool of_start = a.boot && class_of(p.type) == TypeClass::efi_system;
    if (!of_start && a.before.find(p.id) == nullptr) fresh.add(&p);
  }
  if (fresh.empty()) return;
  out.push_back({"new", "New partitions",
                 fmt::format("Give {} a drive letter or mount point", fresh.text()),
                 fmt::format("{}: new. A system may have to be told a drive letter or a mount "
                             "point; one that was made raw has no volume yet.",
                             fresh.text())});
}

void steps_of_numbers(const Assessment& a, std::vector<NextStep>& out) {
  std::string text;
  for (const Renumbering& r : a.numbers()) {
    if (r.before != r.after)
      text += fmt::format("{}p{} is now p{}", text.empty() ? "" : ", ", r.before, r.after);
  }
  if (text.empty()) return;
  out.push_back({"numbers", "Partition numbers",
                 "Tell mount tables and boot settings the new partition numbers",
                 text + ". Mount tables and boot settings that say the old number must say the "
                        "new one."});
}

// A disk that never booted needs no word about it.
bool could_boot(const Assessment& a) {
  return std::any_of(a.consents.begin(), a.consents.end(), [](const Consent& c) {
    return c.code == ConsentCode::firmware || c.code == ConsentCode::start;
  });
}

}  // namespace

std::vector<NextStep> next_steps(const Assessment& a) {
  std::vector<NextStep> out;
  const bool other_table = a.before.kind != a.after.kind;
  const bool mbr = a.after.kind == TableKind::mbr;
  const NewKinds now(a);
  if (a.boot) {
    steps_of_boot(*a.boot, out);
  } else if (other_table && could_boot(a)) {
    a.after.kind == TableKind::gpt ? firmware_of_gpt(a.after, out) : firmware_of_mbr(a.after, out);
  }
  if (!now.opened.empty()) {
    out.push_back(
        {"opened", "A volume that can be read again",
         fmt::format("Copy the files on {} off the disk before it is used", now.opened.text()),
         fmt::format("The boot sector of {} was lost, and may be lost again. Copy its "
                     "files off the disk before it is used.",
                     now.opened.text())});
  }
  if (!now.with_loaders.empty() && mbr && !other_table) {
    out.push_back(
        {"loader", "Starting a computer from this disk",
         fmt::format("Let the system's own repair write a loader to {}", now.with_loaders.text()),
         fmt::format("The loader in the boot sector of {} was {}'s and is gone. Let the "
                     "system's own repair write a new one.",
                     now.with_loaders.text(), now.kind_of_loaders)});
  }
  if (!now.volumes.empty()) {
    out.push_back({"system-check", "A first look by the system",
                   fmt::format("Let the system check {} if it offers to", now.volumes.text()),
                   fmt::format("The first system that opens {} as {} may offer to check it. Let "
                               "it, before you write to it.",
                               now.volumes.text(), now.kind)});
  }
  const bool begins_elsewhere =
      std::any_of(a.changes.begin(), a.changes.end(),
                  [](const ExpectedChange& c) { return c.kind == ExpectedChange::Kind::begins; });
  const bool holds_some = !a.after.data_partitions().empty() || a.after.kind == TableKind::none;
  if (holds_some && (other_table || !now.volumes.empty() || (begins_elsewhere && mbr)))
    steps_of_letters(a, out);
  steps_of_changed_volumes(a, out);
  steps_of_new_partitions(a, out);
  steps_of_numbers(a, out);
  if (holds_some)
    out.push_back({"look", "A few files", "Open a few files",
                   "Open a few files that matter before you go on."});
  return out;
}

}  // namespace nuvrat
