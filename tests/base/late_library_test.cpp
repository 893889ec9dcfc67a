#include "base/late_library.h"

#include <gtest/gtest.h>

namespace dredger {
namespace {

TEST(LateLibrary, GivesFunctionsByTheirNames) {
    const LateLibrary library("libz.so.1");
    ASSERT_TRUE(library.is_there());
    const auto version = library.function<const char*()>("zlibVersion");
    ASSERT_NE(version, nullptr);
    EXPECT_EQ(version()[0], '1');
    EXPECT_EQ(library.function<void()>("noSuchFunction"), nullptr);
}

TEST(LateLibrary, MayBeMissing) {
    const LateLibrary library("libnosuchthing.so.9");
    EXPECT_FALSE(library.is_there());
    EXPECT_EQ(library.function<void()>("zlibVersion"), nullptr);
}

}  // namespace
}  // namespace dredger
