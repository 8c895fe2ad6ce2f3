// Real files by real encoders: samples/kinds.tar.zst, made by recipes/kinds.py.
#pragma once

#include <map>
#include <string>

namespace undershelf::test {

// All of them: name to content.
const std::map<std::string, std::string>& kinds();

}  // namespace undershelf::test
