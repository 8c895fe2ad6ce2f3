// What nearly all tests include, parsed once; and whose members are made once, in support.cc.
#pragma once

#include <gtest/gtest.h>

#include <filesystem>
#include <map>
#include <nlohmann/json.hpp>
#include <regex>

extern template class nlohmann::basic_json<>;
