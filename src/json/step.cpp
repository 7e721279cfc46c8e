// Steps by their own lists of fields, one kind as the other.

#include <nuvrat/checksum.h>

#include "json/models.h"
#include "json/pieces.h"
#include "json/whole_numbers.h"
#include "steps/kinds.h"

namespace nuvrat::json {

namespace {

class FieldWriter {
 public:
  FieldWriter(Json& out, Blobs* blobs) : out_(out), blobs_(blobs) {}
  template <typename T>
  void operator()(const char* key, const T& value) {
    out_[key] = as_json(value);
  }

 private:
  template <typename T>
  [[nodiscard]] Json as_json(const T& value) const {
    return value;  // numbers, yes and no, text
  }
  [[nodiscard]] Json as_json(VolumeKind kind) const { return name_of(kind); }
  [[nodiscard]] Json as_json(const SectorRange& r) const { return to_json(r); }
  [[nodiscard]] Json as_json(const steps::SectorMove& m) const {
    return {{"from", to_json(m.from)}, {"to", m.to}};
  }
  // In a case, where they are; to be shown, what they are.
  [[nodiscard]] Json as_json(const Bytes& bytes) const {
    Json out = {{"bytes", bytes.size()}};
    if (blobs_ == nullptr) {
      out["sha256"] = Sha256::of(bytes).hex();
    } else {
      out["at"] = blobs_->add(bytes);
      out["crc32"] = crc32(bytes);
    }
    return out;
  }
  [[nodiscard]] Json as_json(const SectorWrite& w) const {
    return {{"lba", w.lba}, {"data", as_json(w.data)}};
  }
  [[nodiscard]] Json as_json(const tree::PutFile& file) const {
    return {{"path", file.path},
            {"contents", as_json(file.contents)},
            {"attributes", file.attributes},
            {"modified", file.modified}};
  }
  [[nodiscard]] Json as_json(const std::vector<SectorWrite>& writes) const {
    Json lbas = Json::array();
    Bytes all;
    for (const SectorWrite& w : writes) {
      lbas.push_back(w.lba);
      all.insert(all.end(), w.data.begin(), w.data.end());
    }
    return {{"lbas", lbas}, {"data", as_json(all)}};
  }
  template <typename T>
  [[nodiscard]] Json as_json(const std::vector<T>& items) const {
    Json out = Json::array();
    for (const T& item : items) out.push_back(as_json(item));
    return out;
  }
  template <typename Kind>
  [[nodiscard]] Json as_json(const std::optional<Kind>& kind) const {
    if (!kind) return nullptr;
    Json out = Json::object();
    FieldWriter inner(out, blobs_);
    Kind::fields(*kind, inner);
    return out;
  }
  [[nodiscard]] Json as_json(const VolumeChange& change) const {
    Json out = Json::object();
    FieldWriter inner(out, blobs_);
    steps::fields_of(change, inner);
    return out;
  }

  Json& out_;
  Blobs* blobs_;
};

class FieldReader {
 public:
  FieldReader(const Json& in, ByteView blobs) : in_(in), blobs_(blobs) {}
  template <typename T>
  void operator()(const char* key, T& value) {
    read(in_.at(key), value);
  }

 private:
  void read(const Json& j, std::uint64_t& out) const { out = j; }
  void read(const Json& j, Ticks& out) const { out = j; }
  void read(const Json& j, bool& out) const { out = j; }
  void read(const Json& j, std::string& out) const { out = j; }
  void read(const Json& j, unsigned& out) const { out = whole_32_bits(j); }
  void read(const Json& j, VolumeKind& out) const {
    out = kind_named(j.get<std::string>());
    if (name_of(out) != j) throw Error(ErrorCode::file, "a kind of volume is not known here");
  }
  void read(const Json& j, SectorRange& out) const { out = {j.at("first"), j.at("count")}; }
  void read(const Json& j, steps::SectorMove& out) const {
    read(j.at("from"), out.from);
    out.to = j.at("to");
  }
  void read(const Json& j, Bytes& out) const {
    const std::uint64_t at = j.at("at");
    const std::uint64_t bytes = j.at("bytes");
    if (at > blobs_.size() || bytes > blobs_.size() - at)
      throw Error(ErrorCode::file, "the case lacks bytes of a step", {.path = "steps.bin"});
    const ByteView there = blobs_.subspan(at, bytes);
    if (crc32(there) != j.at("crc32"))
      throw Error(ErrorCode::file, "bytes of a step are not as they were written",
                  {.path = "steps.bin"});
    out.assign(there.begin(), there.end());
  }
  void read(const Json& j, SectorWrite& out) const {
    out.lba = j.at("lba");
    read(j.at("data"), out.data);
  }
  void read(const Json& j, tree::PutFile& out) const {
    out.path = j.at("path");
    read(j.at("contents"), out.contents);
    read(j.at("attributes"), out.attributes);
    read(j.at("modified"), out.modified);
  }
  void read(const Json& j, std::vector<SectorWrite>& out) const {
    const Json& lbas = j.at("lbas");
    Bytes all;
    read(j.at("data"), all);
    if (lbas.empty() != all.empty() || (!lbas.empty() && all.size() % lbas.size() != 0))
      throw Error(ErrorCode::file, "a step has other sectors than it has bytes");
    for (const Json& lba : lbas) {
      const std::size_t size = all.size() / lbas.size();
      const auto at = all.begin() + static_cast<std::ptrdiff_t>(out.size() * size);
      out.push_back({lba, Bytes(at, at + static_cast<std::ptrdiff_t>(size))});
    }
  }
  template <typename T>
  void read(const Json& j, std::vector<T>& out) const {
    for (const Json& item : j) {
      out.emplace_back();
      read(item, out.back());
    }
  }
  template <typename Kind>
  void read(const Json& j, std::optional<Kind>& out) const {
    if (j.is_null()) return;
    FieldReader inner(j, blobs_);
    Kind::fields(out.emplace(), inner);
  }
  void read(const Json& j, VolumeChange& out) const {
    FieldReader inner(j, blobs_);
    steps::fields_of(out, inner);
  }

  const Json& in_;
  ByteView blobs_;
};

template <typename Kind>
bool read_as(const Json& j, ByteView blobs, std::optional<steps::Work>& out) {
  if (j.at("kind") != Kind::code) return false;
  Kind kind;
  FieldReader reader(j, blobs);
  Kind::fields(kind, reader);
  out = steps::Work{std::move(kind)};
  return true;
}

template <typename... Kinds>
std::optional<steps::Work> read_any(const Json& j, ByteView blobs, const std::variant<Kinds...>*) {
  std::optional<steps::Work> out;
  (void)(read_as<Kinds>(j, blobs, out) || ...);
  return out;
}

}  // namespace

Json to_json(const Step& step, Blobs* blobs) {
  Json out = {{"kind", step.code()}, {"target", to_json(step.target())}};
  std::visit(
      [&](const auto& kind) {
        FieldWriter writer(out, blobs);
        kind.fields(kind, writer);
      },
      step.work().kind);
  return out;
}

Step step_from_json(const Json& j, ByteView blobs) {
  return guarded([&] {
    const decltype(steps::Work::kind)* const all = nullptr;
    auto work = read_any(j, blobs, all);
    if (!work)
      throw Error(ErrorCode::file,
                  fmt::format("there is no step called '{}'", j.at("kind").get<std::string>()));
    return Step(layout_from_json(j.at("target")), std::move(*work));
  });
}

}  // namespace nuvrat::json
