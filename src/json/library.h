#pragma once
// The JSON library: included here and nowhere else.

#include <nlohmann/json.hpp>

namespace nuvrat {

using nlohmann::json;

}  // namespace nuvrat
