#pragma once
// What all of the room's files need.

#include <fmt/core.h>

#include <nuvrat/error.h>
#include <nuvrat/text.h>
#include <nuvrat/volume_kind.h>

#include "json/library.h"

namespace nuvrat::json {

/// Text that can't be shown as it is has its UTF-16 units beside it: it must come back exactly.
void put_text(Json& out, const std::string& key, const std::string& text);
[[nodiscard]] std::string get_text(const Json& j, const std::string& key);

/// What a name of a code stands for, looked up in its table.
template <typename Code>
Code known(std::optional<Code> code, const std::string& name) {
  if (!code) throw Error(ErrorCode::file, fmt::format("'{}' is not a code of this version", name));
  return *code;
}

template <typename Enum>
Enum enum_from(const std::string& name, std::initializer_list<Enum> values) {
  for (const Enum value : values) {
    if (name == name_of(value)) return value;
  }
  throw Error(ErrorCode::file, fmt::format("'{}' is not known here", name));
}

/// Whatever is missing or of another kind is the same to a reader: not one of our files.
template <typename Read>
auto guarded(Read read) {
  try {
    return read();
  } catch (const Error&) {
    throw;
  } catch (const std::bad_alloc&) {
    throw;
  } catch (const std::exception& e) {  // a number that is none, too
    throw Error(ErrorCode::file,
                fmt::format("a part is missing or of the wrong kind: {}", e.what()));
  }
}

/// Two spaces deep, with a line feed at the end.
[[nodiscard]] std::string dump(const Json& j);

}  // namespace nuvrat::json
