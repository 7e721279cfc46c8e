// Words that goals are made of.

#include <doctest/doctest.h>

#include <nuvrat/error.h>
#include <nuvrat/goal.h>

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
    if (subject.starts_with("pN")) subject.replace(1, 1, "17");
    for (const std::string& state : word.states) {
      CAPTURE(subject);
      const Goal goal = parse_goal(subject + "=" + state);
      CHECK(goal.text() == subject + "=" + state);
    }
    if (!word.states.empty()) CHECK_FALSE(said_of((subject + "=").c_str()).empty());
    CHECK_FALSE(word.meaning.empty());
  }
  for (const char* word : {"", "=", "table", "=gpt", "p=ntfs", "p0=ntfs", "p03=ntfs", "p1x=ntfs",
                           "p99999=ntfs", "p1.=yes", "pN=ntfs", "table=gpt ", "p1.name=\x01"})
    CHECK_MESSAGE(!said_of(word).empty(), word);
}

TEST_CASE("goals: a slip of the fingers is met with the word that was meant") {
  CHECK(said_of("TABLE=gpt").starts_with("unknown subject 'TABLE'; did you mean table?"));
  CHECK(said_of("tabel=gpt").starts_with("unknown subject 'tabel'; did you mean table?"));
  CHECK(said_of("p12.activ=yes")
            .starts_with("unknown subject 'p12.activ'; did you mean p12.active?"));
  CHECK(said_of("P3=ntfs").starts_with("unknown subject 'P3'; did you mean p3?"));
  CHECK(said_of("frog=x").starts_with("unknown subject 'frog' / "));
  CHECK(said_of("p1=fat").ends_with("Say p1=primary, p1=logical, p1=ntfs, p1=fat32 or p1=fat16"));
}
