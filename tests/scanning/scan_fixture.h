// A folder with catalogs in it, and scans into them.
#pragma once

#include <gtest/gtest.h>

#include "scanning/scan.h"
#include "support/support.h"

namespace dredger::test {

class ScanFixture : public testing::Test {
  protected:
    Result<ScanReport> run(const ScanRequest& request, const std::string& catalog = "a.dredge") {
        auto opened = Catalog::open_for_scan(folder_ / catalog);
        EXPECT_TRUE(opened);
        return scan(*opened, request, listener_);
    }

    TempFolder folder_;
    Listener listener_;
};

}  // namespace dredger::test
