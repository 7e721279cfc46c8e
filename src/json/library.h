#pragma once
// The JSON library: included here and nowhere else.

#include <nlohmann/json.hpp>

namespace nuvrat::json {

using Json = nlohmann::json;

}  // namespace nuvrat::json
