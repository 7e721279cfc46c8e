// Words that goals are made of.

#include <doctest/doctest.h>

#include <nuvrat/error.h>
#include <nuvrat/goal.h>
#include <nuvrat/text.h>

using namespace nuvrat;

namespace {

std::string said_of(const char* word) {
  try {
    (void)parse_goal(word);
  } catch (const Error& e) {
    CHECK(e.code() == ErrorCode::words);
    return e.message() + " / " + e.remedy();
  }
  return "";
}

}  // namespace

TEST_CASE("goals: every state of every subject is a goal, and nothing else is") {
  for (const GoalWord& word : goal_words()) {
    std::string subject = word.subject;
    if (subject.starts_with("pN") || subject.starts_with("gN")) subject.replace(1, 1, "17");
    for (const std::string& state : word.states) {
      CAPTURE(subject);
      const Goal goal = parse_goal(subject + "=" + state);
      CHECK(goal.text() == subject + "=" + state);
    }
    const bool any_text = word.free == GoalWord::Free::text;
    if (!any_text) CHECK_FALSE(said_of((subject + "=").c_str()).empty());
    CHECK_FALSE(word.meaning.empty());
  }
  for (const char* word : {"",
                           "=",
                           "table",
                           "=gpt",
                           "p=ntfs",
                           "p0=ntfs",
                           "p03=ntfs",
                           "p1x=ntfs",
                           "p99999=ntfs",
                           "p1.=yes",
                           "pN=ntfs",
                           "table=gpt ",
                           "p1.name=\x01",
                           "p1.label=a\tb",
                           "p1.label=123456789012345678901234567890123",
                           "p1.size=",
                           "p1.size=0",
                           "p1.size=+",
                           "p1.size=+0MiB",
                           "p1.size=1.5",
                           "p1.size=512",
                           "p1.size=+5",
                           "p1.size=20%",
                           "p1.size=16EiB",
                           "p1.size=+max",
                           "g1=raw:",
                           "g1=raw:+5MiB",
                           "g1=ntfs:max",
                           "g0=raw",
                           "g1.size=5MiB",
                           "g1=logical"})
    CHECK_MESSAGE(!said_of(word).empty(), word);
  for (const char* word :
       {"p1.size=120GiB", "p1.size=+1.5TiB", "p1.size=-20MB", "p1.size=512B", "p1.size=5gib",
        "p1.size=10M", "TABLE=GPT", "P3=NTFS", "p2.letter=r:", "p1.cluster=4096", "g3=fat32:500MiB",
        "g1=raw", "p1.label=", "volume.label=Boje 9"})
    CHECK_MESSAGE(said_of(word).empty(), word);
}

TEST_CASE("goals: a slip of the fingers is met with the word that was meant") {
  CHECK(said_of("tabel=gpt").starts_with("unknown subject 'tabel'; did you mean table?"));
  CHECK(said_of("p12.activ=yes")
            .starts_with("unknown subject 'p12.activ'; did you mean p12.active?"));
  CHECK(said_of("frog=x").starts_with("unknown subject 'frog' / "));
  CHECK(said_of("p1=fat").ends_with(
      "Say p1=primary, p1=logical, p1=ntfs, p1=fat32, p1=fat16 or p1=gone"));
  CHECK(said_of("g2=fat").find("Say g2=ntfs|fat32|fat16|raw[:SIZE]") != std::string::npos);
}

TEST_CASE("sizes: what people write, and nothing else") {
  CHECK(parse_bytes("0") == 0u);
  CHECK(parse_bytes("512B") == 512u);
  CHECK(parse_bytes("20KiB") == 20480u);
  CHECK(parse_bytes("20kB") == 20000u);
  CHECK(parse_bytes("20KB") == 20000u);
  CHECK(parse_bytes("20kib") == 20480u);
  CHECK(parse_bytes("20K") == 20480u);
  CHECK(parse_bytes("1.5GiB") == 1610612736u);
  CHECK(parse_bytes("0.001MB") == 1000u);
  CHECK(parse_bytes("7.99999EiB") == std::nullopt);           // a part of a byte
  CHECK(parse_bytes("9223372036854775807") == std::nullopt);  // more digits than anybody needs
  CHECK(parse_bytes("8388607TiB") == 8388607ull << 40);
  for (const char* text : {"", "B", "-1", "+1", " 1", "1 ", "1.", ".5", "1.5", "1XiB", "8EiB",
                           "99999999999EiB", "1GiBs", "0x10", "1e3"})
    CHECK_MESSAGE(!parse_bytes(text), text);
}
