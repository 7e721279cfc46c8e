// The programs' bytes are what their sources say.

#include "base/start_code.h"

#include <algorithm>
#include <fstream>
#include <iterator>

#include <doctest/doctest.h>

#include "support.h"

using namespace nuvrat;

TEST_CASE("start code: the bytes are the assembled sources") {
  const support::Folder folder;
  for (const bool mbr : {false, true}) {
    const std::string name = mbr ? "mbr" : "volume";
    CAPTURE(name);
    const auto ran = support::run("nasm -f bin -o " + (folder / name).string() + " " +
                                  NUVRAT_TESTS_FOLDER + "/../src/base/start_code/" + name + ".asm");
    REQUIRE_MESSAGE(ran.status == 0, ran.errors);
    std::ifstream file(folder / name, std::ios::binary);
    const std::string made((std::istreambuf_iterator<char>(file)), {});
    const ByteView kept = mbr ? base::mbr_start_code() : base::volume_start_code();
    REQUIRE(made.size() == kept.size());
    CHECK(std::equal(kept.begin(), kept.end(), made.begin(),
                     [](std::uint8_t a, char b) { return a == static_cast<std::uint8_t>(b); }));
  }
}
