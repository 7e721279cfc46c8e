#include "boot/store.h"

#include <algorithm>

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>

#include "base/ascii.h"

namespace nuvrat::boot {
namespace {

constexpr const char* what_store = "the boot store";
constexpr const char* what_letters = "the system's hive";
constexpr const char* manager = "{9dea862c-5cdd-4e70-acc1-f32b344d4795}";
constexpr const char* element_value = "Element";

constexpr std::uint32_t type_loader = 0x10200003, type_resume = 0x10200004,
                        type_memory_test = 0x10200005;

constexpr const char* e_device = "11000001";
constexpr const char* e_path = "12000002";
constexpr const char* e_description = "12000004";
constexpr const char* e_os_device = "21000001";
constexpr const char* e_root = "22000002";
constexpr const char* e_default = "23000003";
constexpr const char* e_order = "24000001";

// One object of a store, by the names of its elements.
class Entry {
 public:
  Entry(Hive& hive, Hive::Key key) : hive_(hive), key_(key) {}

  [[nodiscard]] std::uint32_t type() const {
    const auto value = hive_.value(hive_.child(key_, "Description"), "Type");
    if (!value || value->bytes.size() != 4) return 0;
    std::uint32_t out = 0;
    for (std::size_t i = 4; i > 0; --i) out = out << 8 | value->bytes[i - 1];
    return out;
  }
  [[nodiscard]] Hive::Key elements() const { return hive_.child(key_, "Elements"); }
  [[nodiscard]] std::optional<HiveValue> get(const char* element) const {
    return hive_.value(hive_.child(elements(), element), element_value);
  }
  void set(const char* element, const HiveValue& value) {
    hive_.set(hive_.make(hive_.make(key_, "Elements"), element), element_value, value);
  }
  [[nodiscard]] std::optional<PartitionName> device(const char* element) const {
    const auto value = get(element);
    return value && value->type == HiveValue::binary ? read_device_element(value->bytes)
                                                     : std::nullopt;
  }

 private:
  Hive& hive_;
  Hive::Key key_;
};

class Store {
 public:
  explicit Store(ByteView file) : file_(file), hive_(file, what_store) {
    objects_ = hive_.child(hive_.root(), "Objects");
    if (objects_ == 0) throw Error(ErrorCode::damaged, "the boot store has no objects");
  }

  ChangedStore change(const StoreChange& change) {
    const HiveDump before = hive_.dump();
    ChangedStore out = apply(change);
    // One that says all of it already stays what it is, to the byte.
    out.file = hive_.dump() == before ? Bytes(file_.begin(), file_.end()) : hive_.file();
    return out;
  }

  // The template holds what every store of the system begins with; what it lacks is named here.
  ChangedStore from_template(const StoreChange& change) {
    Hive::Key loader = 0;
    for (const Hive::Key object : hive_.children(objects_)) {
      if (Entry(hive_, object).type() == type_loader) loader = object;
    }
    if (loader == 0)
      throw Error(ErrorCode::damaged, "the system's template for a boot store names no loader");
    Entry entry(hive_, loader);
    const auto say = [&entry](const char* element, const char16_t* text) {
      if (!entry.get(element)) entry.set(element, HiveValue::of_text(text));
    };
    say(e_path, u"\\Windows\\system32\\winload.exe");
    say(e_root, u"\\Windows");
    say(e_description, u"The system of this disk");
    const HiveValue device{HiveValue::binary, device_element(change.system)};
    entry.set(e_device, device);
    entry.set(e_os_device, device);
    Entry boss(hive_, hive_.make(objects_, manager));
    const std::u16string name = to_utf16(hive_.name(loader));
    HiveValue order{HiveValue::texts, HiveValue::of_text(name).bytes};
    order.bytes.insert(order.bytes.end(), {0, 0});
    boss.set(e_default, HiveValue::of_text(name));
    boss.set(e_order, order);
    ChangedStore out = apply(change);
    out.file = hive_.file();
    return out;
  }

  [[nodiscard]] StoreView view() {
    StoreView out;
    std::optional<Hive::Key> chosen;
    if (const auto name = Entry(hive_, hive_.child(objects_, manager)).get(e_default)) {
      if (const Hive::Key key = hive_.child(objects_, to_utf8(name->as_text())); key != 0)
        chosen = key;
    }
    for (const Hive::Key object : hive_.children(objects_)) {
      if (Entry(hive_, object).type() != type_loader) continue;
      ++out.systems;
      if (!chosen) chosen = object;
    }
    if (!chosen) return out;
    const Entry entry(hive_, *chosen);
    if (const auto text = entry.get(e_description)) out.description = to_utf8(text->as_text());
    if (const auto text = entry.get(e_path)) out.loader = to_utf8(text->as_text());
    out.device = entry.device(e_os_device);
    if (!out.device) out.device = entry.device(e_device);
    return out;
  }

 private:
  ChangedStore apply(const StoreChange& change) {
    ChangedStore out;
    for (const Hive::Key object : hive_.children(objects_)) rename_devices(object, change, out);
    if (change.way) set_way(change);
    for (const Hive::Key object : hive_.children(objects_)) count_left(object, change, out);
    return out;
  }

  void rename_devices(Hive::Key object, const StoreChange& change, ChangedStore& out) {
    const Hive::Key elements = hive_.child(object, "Elements");
    if (elements == 0) return;
    for (const Hive::Key element : hive_.children(elements)) {
      const auto value = hive_.value(element, element_value);
      if (!value || value->type != HiveValue::binary) continue;
      std::vector<NestedName> names = names_in(hive_.name(element), value->bytes);
      bool differs = false;
      for (NestedName& n : names) {
        const auto now = change.new_name(n.name);
        if (!now || *now == n.name) continue;
        n.name = *now;
        differs = true;
      }
      if (!differs) continue;
      hive_.set(element, element_value, {HiveValue::binary, renamed_inside(value->bytes, names)});
      ++out.named;
    }
  }

  void count_left(Hive::Key object, const StoreChange& change, ChangedStore& out) const {
    const Hive::Key elements = hive_.child(object, "Elements");
    if (elements == 0) return;
    for (const Hive::Key element : hive_.children(elements)) {
      const auto value = hive_.value(element, element_value);
      if (!value) continue;
      const auto names = names_in(hive_.name(element), value->bytes);
      if (names.empty() && is_odd(hive_.name(element), value->bytes))
        out.odd.push_back(hive_.name(object) + " " + hive_.name(element));
      out.left += static_cast<std::size_t>(
          std::count_if(names.begin(), names.end(), [&change](const NestedName& n) {
            return !change.new_name(n.name) && n.name != change.boot_files;
          }));
    }
  }

  // The second digit of an element's number says that it is a device; of those some need no name:
  // the one that was started from.
  static bool is_odd(const std::string& element, const Bytes& bytes) {
    constexpr std::size_t type_at = 16;
    constexpr std::uint8_t type_boot = 5;
    return names_device(element) && (bytes.size() <= type_at || bytes[type_at] != type_boot);
  }
  static bool names_device(const std::string& element) {
    return element.size() == 8 && element[1] == '1';
  }
  static std::vector<NestedName> names_in(const std::string& element, const Bytes& bytes) {
    return names_device(element) ? nested_names(bytes) : std::vector<NestedName>();
  }

  void set_way(const StoreChange& change) {
    const bool uefi = *change.way == BootWay::uefi;
    const HiveValue boot_files{HiveValue::binary, device_element(change.boot_files)};
    for (const Hive::Key object : hive_.children(objects_)) {
      Entry entry(hive_, object);
      const std::uint32_t type = entry.type();
      const auto path = entry.get(e_path);
      if (type == type_loader || type == type_resume) {
        if (path) set_program(entry, path->as_text(), uefi);
      } else if (type == type_memory_test) {
        entry.set(e_device, boot_files);
        entry.set(e_path, HiveValue::of_text(uefi ? u"\\EFI\\Microsoft\\Boot\\memtest.efi"
                                                  : u"\\boot\\memtest.exe"));
      }
    }
    Entry boss(hive_, hive_.make(objects_, manager));
    boss.set(e_device, boot_files);
    boss.set(e_path,
             HiveValue::of_text(uefi ? u"\\EFI\\Microsoft\\Boot\\bootmgfw.efi" : u"\\bootmgr"));
  }

  // Of the two that each loader has, the one for this way.
  static void set_program(Entry& entry, std::u16string path, bool uefi) {
    const std::u16string_view from = uefi ? u".exe" : u".efi";
    const std::u16string_view to = uefi ? u".efi" : u".exe";
    const std::u16string folded = base::ascii_lower(path);
    for (const std::u16string_view program : {u"winload", u"winresume"}) {
      const std::u16string ending = std::u16string(program) + std::u16string(from);
      if (!folded.ends_with(ending)) continue;
      path.replace(path.size() - to.size(), to.size(), to);
      entry.set(e_path, HiveValue::of_text(path));
      return;
    }
  }

  ByteView file_;
  Hive hive_;
  Hive::Key objects_ = 0;
};

constexpr std::string_view letter_prefix = "\\DosDevices\\";

// 'D' of "\DosDevices\D:"; 0 for other names.
char letter_of(std::string_view name) {
  if (name.size() != letter_prefix.size() + 2 || name.back() != ':') return 0;
  for (std::size_t i = 0; i < letter_prefix.size(); ++i) {
    if ((name[i] | 0x20) != (letter_prefix[i] | 0x20)) return 0;
  }
  const char c = name[letter_prefix.size()];
  const char upper = c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c;
  return upper >= 'A' && upper <= 'Z' ? upper : '\0';
}

Hive::Key mounted(const Hive& hive) {
  return hive.child(hive.root(), "MountedDevices");
}

}  // namespace

ChangedStore change_store(ByteView file, const StoreChange& change) {
  return Store(file).change(change);
}
ChangedStore new_store(ByteView tmpl, const StoreChange& change) {
  return Store(tmpl).from_template(change);
}
StoreView read_store(ByteView file) {
  return Store(file).view();
}

std::vector<HiveLetter> read_letters(const Hive& system) {
  std::vector<HiveLetter> out;
  const Hive::Key key = mounted(system);
  if (key == 0) return out;
  for (const auto& [name, value] : system.values(key)) {
    if (const char letter = letter_of(name); letter != 0)
      out.push_back({letter, value.type == HiveValue::binary ? read_letter_value(value.bytes)
                                                             : std::nullopt});
  }
  return out;
}

ChangedLetters change_letters(ByteView file, const NewName& new_name,
                              const std::vector<std::pair<char, PartitionName>>& wanted) {
  Hive hive(file, what_letters);
  ChangedLetters out;
  if (mounted(hive) == 0 && wanted.empty()) return out;
  const Hive::Key key = hive.make(hive.root(), "MountedDevices");
  bool changed = false;
  for (const auto& [name, value] : hive.values(key)) {
    const auto old =
        value.type == HiveValue::binary ? read_letter_value(value.bytes) : std::nullopt;
    const auto now = old ? new_name(*old) : std::nullopt;
    if (!now || letter_value(*now) == value.bytes) continue;
    hive.set(key, name, {HiveValue::binary, letter_value(*now)});
    out.followed += letter_of(name) != 0 ? 1 : 0;
    changed = true;
  }
  for (const auto& [letter, partition] : wanted) {
    const Bytes value = letter_value(partition);
    bool there = false;
    for (const auto& [name, old] : hive.values(key)) {
      const char has = letter_of(name);
      if (has == letter && old.bytes == value) there = true;
      if (has == 0 || has == letter || old.bytes != value) continue;
      hive.remove(key, name);
      changed = true;
    }
    if (there) continue;
    hive.set(key, fmt::format("{}{}:", letter_prefix, letter), {HiveValue::binary, value});
    changed = true;
  }
  if (changed) out.file = hive.file();
  return out;
}

}  // namespace nuvrat::boot
