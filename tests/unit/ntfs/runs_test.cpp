// Runlists, update sequences and LZNT1, byte by byte as their formats say.

#include "ntfs/runs.h"

#include <doctest/doctest.h>

#include <nuvrat/error.h>
#include <nuvrat/random.h>

#include "ntfs/fixup.h"
#include "ntfs/lznt1.h"
#include "ntfs/names.h"

using namespace nuvrat;

namespace {

Bytes encoded(const tree::Runs& runs) {
  Bytes out;
  std::uint64_t previous = 0;
  for (const tree::Run& run : runs) ntfs::encode_run(run, previous, out);
  out.push_back(0);
  return out;
}

constexpr std::uint64_t max_holes = 20u << 20;

tree::Runs decoded(const Bytes& bytes, std::uint64_t clusters) {
  tree::Runs out;
  ntfs::decode_runs(bytes, clusters, max_holes, out);
  return out;
}

bool refused(const Bytes& bytes, std::uint64_t clusters = 1u << 20) {
  try {
    (void)decoded(bytes, clusters);
  } catch (const Error& e) {
    return e.code() == ErrorCode::damaged;
  }
  return false;
}

}  // namespace

TEST_CASE("runs: as they are written, by hand") {
  // 24 clusters from 0x5634; 8 from 0x2A3D less; a hole of 0x120; one a single cluster on.
  const tree::Runs runs{{0x5634, 0x18}, {0x2BF7, 8}, {tree::Run::hole, 0x120}, {0x2BF8, 1}};
  const Bytes bytes{0x21, 0x18, 0x34, 0x56, 0x21, 0x08, 0xC3, 0xD5,
                    0x02, 0x20, 0x01, 0x11, 0x01, 0x01, 0x00};
  CHECK(encoded(runs) == bytes);
  CHECK(decoded(bytes, 0x10000) == runs);
  CHECK(ntfs::encoded_bytes(runs) == bytes.size());
  CHECK(tree::clusters_in(runs) == 0x18 + 8 + 0x120 + 1);
  // What a byte's sign would turn round takes one more.
  CHECK(encoded({{0x80, 0x80}}) == Bytes{0x22, 0x80, 0x00, 0x80, 0x00, 0x00});
}

TEST_CASE("runs: any list comes back, and takes the bytes that were counted") {
  Random random(5);
  for (int round = 0; round < 2000; ++round) {
    const std::uint64_t clusters = std::uint64_t{1} << (4 + random.below(50));
    tree::Runs runs;
    std::uint64_t left = clusters;  // a file has no more than its volume, holes apart
    for (std::uint64_t n = random.below(20); n > 0 && left > 0; --n) {
      const std::uint64_t count = 1 + random.below(std::min<std::uint64_t>(left, 1u << 20));
      if (random.below(5) == 0) {
        if (!runs.empty() && runs.back().lcn == tree::Run::hole) continue;
        runs.push_back({tree::Run::hole, count});
      } else {
        runs.push_back({random.below(clusters - count + 1), count});
        left -= count;
      }
    }
    CHECK(decoded(encoded(runs), clusters) == runs);
    CHECK(encoded(runs).size() == ntfs::encoded_bytes(runs));
  }
}

TEST_CASE("runs: neighbours are joined, others are not") {
  tree::Runs runs;
  tree::add_run(runs, {100, 10});
  tree::add_run(runs, {110, 5});
  tree::add_run(runs, {tree::Run::hole, 3});
  tree::add_run(runs, {tree::Run::hole, 4});
  tree::add_run(runs, {115, 1});
  CHECK(runs == tree::Runs{{100, 15}, {tree::Run::hole, 7}, {115, 1}});
}

TEST_CASE("runs: what is no runlist is refused") {
  CHECK(refused({0x21, 0x18, 0x34}));                                // cut off
  CHECK(refused({0x11, 0x00, 0x10, 0x00}));                          // a run of nothing
  CHECK(refused({0x11, 0x01, 0x80, 0x00}));                          // in front of the volume
  CHECK(refused({0x11, 0x02, 0x7F, 0x00}, 0x80));                    // beyond its end
  CHECK(refused({0x11, 0x70, 0x00, 0x11, 0x70, 0x00, 0x00}, 0x80));  // more than there is
  CHECK(refused({0x91, 0x01, 1, 1, 1, 1, 1, 1, 1, 1, 1, 0x00}));
  CHECK_FALSE(refused({0x11, 0x01, 0x7F, 0x00}, 0x80));
  CHECK_FALSE(refused({0x00}));
  // A hole as long as the attribute says, however small the volume is, and one cluster longer.
  CHECK_FALSE(refused({0x04, 0x00, 0x00, 0x40, 0x01, 0x00}, 16));
  CHECK(refused({0x04, 0x01, 0x00, 0x40, 0x01, 0x00}, 16));
}

TEST_CASE("fixup: a torn record shows, a whole one comes back") {
  for (const std::size_t size : {std::size_t{1024}, std::size_t{4096}}) {
    Bytes record(size);
    for (std::size_t i = 0; i < size; ++i) record[i] = static_cast<std::uint8_t>(i * 7);
    record[4] = 0x30, record[5] = 0;
    record[6] = static_cast<std::uint8_t>(size / 512 + 1), record[7] = 0;
    const Bytes was = record;
    ntfs::protect(record, 0x1234);
    for (std::size_t end = 512; end <= size; end += 512) {
      CHECK(record[end - 2] == 0x34);
      CHECK(record[end - 1] == 0x12);
      Bytes torn = record;
      torn[end - 1] ^= 1;
      CHECK_FALSE(ntfs::unprotect(torn));
    }
    Bytes whole = record;
    REQUIRE(ntfs::unprotect(whole));
    std::fill(whole.begin() + 0x30, whole.begin() + 0x30 + 2 + static_cast<long>(size / 256), 0);
    Bytes expected = was;
    std::fill(expected.begin() + 0x30, expected.begin() + 0x30 + 2 + static_cast<long>(size / 256),
              0);
    CHECK(whole == expected);
    Bytes beyond = record;
    beyond[4] = 0xFF, beyond[5] = 0xFF;  // the array outside the record
    CHECK_FALSE(ntfs::unprotect(beyond));
  }
}

TEST_CASE("lznt1: literals, references, chunks that are stored, and what is missing is zero") {
  Bytes out(4096);
  // One chunk, packed: a flag byte, eight literals; then "abc" and a reference three back, 9 long.
  const Bytes packed{0x06, 0xB0, 0x08, 'a', 'b', 'c', 0x06, 0x20, 0x00};
  REQUIRE(ntfs::unpack_lznt1(packed, out));
  CHECK(std::string(out.begin(), out.begin() + 12) == "abcabcabcabc");
  CHECK(all_zero(ByteView(out).subspan(12)));
  // One chunk as it is: 4096 bytes.
  Bytes stored{0xFF, 0x3F};
  stored.resize(2 + 4096, 'x');
  REQUIRE(ntfs::unpack_lznt1(stored, out));
  CHECK(out == Bytes(4096, 'x'));
  // Nothing packed: zeros.
  REQUIRE(ntfs::unpack_lznt1(Bytes{0, 0}, out));
  CHECK(all_zero(out));
  // A reference to before the chunk.
  CHECK_FALSE(ntfs::unpack_lznt1(Bytes{0x03, 0xB0, 0x02, 'a', 0x00, 0x10}, out));
  // Cut off.
  CHECK_FALSE(ntfs::unpack_lznt1(Bytes{0x20, 0xB0, 0x00, 'a'}, out));
}

TEST_CASE("names: the Win32 and DOS name spaces") {
  for (const char16_t* name :
       {u"a", u"a.b.c", u"gauge 7.csv", u"CONSOLE", u"COM10.txt", u"é", u".x"})
    CHECK_MESSAGE(ntfs::win32_allows(name), name);
  for (const char16_t* name :
       {u"a:b", u"a|b", u"a*", u"a?", u"a<b", u"a>b", u"a\"b", u"a\\b", u"a/b", u"a.", u"a ",
        u"CON", u"con.txt", u"COM1", u"lpt9.log", u"aux", u"nul", u"a\x01"})
    CHECK_MESSAGE(!ntfs::win32_allows(name), name);
  for (const char16_t* name : {u"README.TXT", u"A", u"GAUGE7.CSV", u"12345678.123"})
    CHECK_MESSAGE(ntfs::is_short_name(name), name);
  for (const char16_t* name : {u"READ ME.TXT", u"123456789", u"A.1234", u"A.B.C", u".A", u"A+B"})
    CHECK_MESSAGE(!ntfs::is_short_name(name), name);
}
