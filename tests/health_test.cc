// What is made of a disk's SMART data. Data of 18 real disks was tried besides:
// docs/failing-media.md.
#include "source/health.h"

#include <gtest/gtest.h>

#include <algorithm>
#include <string>
#include <vector>

namespace undershelf::test {
namespace {

struct Attribute {
  uint8_t id, now, worst;
  uint32_t raw;
  uint8_t least = 0;
};

void add_part(std::string& kept, const char* tag, const std::string& bytes) {
  kept += tag;
  const auto size = static_cast<uint32_t>(bytes.size());
  for (int shift = 24; shift >= 0; shift -= 8) kept += static_cast<char>(size >> shift);
  kept += bytes;
}

// As the library keeps what a disk says: IDENTIFY DEVICE (words 82 and 85: SMART is there, and on),
// its own verdict, and the attributes with their thresholds (ATA8-ACS, "SMART READ DATA").
std::string smart_data(bool passes, const std::vector<Attribute>& attributes) {
  std::string identify(512, '\0');
  identify[164] = identify[170] = 1;
  std::string data(512, '\0');
  std::string thresholds(512, '\0');
  size_t at = 2;
  for (const Attribute& one : attributes) {
    data[at] = static_cast<char>(one.id);
    data[at + 1] = 3;
    data[at + 3] = static_cast<char>(one.now);
    data[at + 4] = static_cast<char>(one.worst);
    for (size_t i = 0; i < 4; ++i) data[at + 5 + i] = static_cast<char>(one.raw >> (8 * i));
    thresholds[at] = static_cast<char>(one.id);
    thresholds[at + 1] = static_cast<char>(one.least);
    at += 12;
  }
  std::string kept;
  add_part(kept, "IDFY", identify);
  add_part(kept, "SMST", std::string("\0\0\0", 3) + static_cast<char>(passes ? 1 : 0));
  add_part(kept, "SMDT", data);
  add_part(kept, "SMTH", thresholds);
  return kept;
}

TEST(Health, IsWhatADisksSmartDataSays) {
  struct Case {
    const char* what;
    bool passes;
    std::vector<Attribute> attributes;
    Condition condition;
    const char* says;
  };
  const std::vector<Case> cases = {
      {"new", true, {{5, 100, 100, 0, 36}, {9, 99, 99, 1200}}, Condition::sound, "passes"},
      {"lost sectors", true, {{5, 99, 99, 7, 36}}, Condition::worn, "7 sectors"},
      {"waits to give one up", true, {{197, 100, 100, 1}}, Condition::worn, "1 sector "},
      {"below a threshold", true, {{5, 20, 20, 900, 36}}, Condition::failing, "maker"},
      {"says so itself", false, {{5, 100, 100, 0, 36}}, Condition::failing, "it is failing"},
  };
  for (const Case& one : cases) {
    const std::string kept = smart_data(one.passes, one.attributes);
    const Health health = health_of_smart(std::as_bytes(std::span(kept)));
    EXPECT_EQ(to_text(health.condition), to_text(one.condition)) << one.what;
    EXPECT_TRUE(std::ranges::any_of(
        health.facts,
        [&](const std::string& fact) { return fact.find(one.says) != std::string::npos; }))
        << one.what << (health.facts.empty() ? "" : ": " + health.facts.back());
  }
  const std::string rubbish = "no SMART data";
  EXPECT_TRUE(health_of_smart(std::as_bytes(std::span(rubbish))).facts.empty());
  EXPECT_FALSE(health_of("/dev/null").has_value());
}

}  // namespace
}  // namespace undershelf::test
