#include "catalog/attaching.h"

#include <gmock/gmock.h>

#include "scanning/scan_fixture.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

class AttachTest : public test::ScanFixture {
  protected:
    void SetUp() override {
        image_ = test::unpack_to("fat16-card", folder_.path());
        ScanRequest request;
        request.source = image_;
        ASSERT_TRUE(run(request));
        auto opened = Catalog::open(folder_ / "a.dredge");
        ASSERT_TRUE(opened);
        catalog_ = std::make_unique<Catalog>(std::move(*opened));
        const auto volumes = catalog_->volumes().value();
        for (const ScannedVolume& volume : volumes) volumes_.insert(volume.id);
    }
    fs::path image_;
    std::unique_ptr<Catalog> catalog_;
    std::set<std::int64_t> volumes_;
};

TEST_F(AttachTest, OpensTheMediumWhereItWasAndWhereItIsNow) {
    const auto there = attach(*catalog_, volumes_, {{}, folder_ / "out"});
    ASSERT_TRUE(there) << there.error().line();
    EXPECT_EQ(there->media.size(), volumes_.size());
    EXPECT_THAT(there->remarks, IsEmpty());
    EXPECT_EQ(there->media.begin()->second->size(), fs::file_size(image_));

    fs::rename(image_, folder_ / "moved.img");
    const auto gone = attach(*catalog_, volumes_, {{}, folder_ / "out"});
    ASSERT_FALSE(gone);
    EXPECT_EQ(gone.error().kind, ErrorKind::unreadable);
    EXPECT_THAT(gone.error().line(), HasSubstr("--source PATH"));
    EXPECT_TRUE(attach(*catalog_, volumes_, {folder_ / "moved.img", folder_ / "out"}));
    EXPECT_TRUE(attach(*catalog_, {}, {{}, folder_ / "out"})->media.empty()) << "nothing is asked for";
}

TEST_F(AttachTest, AnotherMediumHasToBeSpelledOut) {
    test::write_text(folder_ / "other.img", std::string(fs::file_size(image_), 'x'));
    AttachRequest request{folder_ / "other.img", folder_ / "out"};
    const auto refused = attach(*catalog_, volumes_, request);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::unsafe);
    EXPECT_THAT(refused.error().line(), HasSubstr("--from-changed-source"));
    request.from_changed_source = true;
    const auto taken = attach(*catalog_, volumes_, request);
    ASSERT_TRUE(taken);
    EXPECT_THAT(taken->remarks.back(), HasSubstr("not the medium that was scanned; overridden"));
}

TEST_F(AttachTest, TheImageItselfIsNoDestination) {
    AttachRequest request{{}, image_};
    const auto refused = attach(*catalog_, volumes_, request);
    ASSERT_FALSE(refused);
    EXPECT_EQ(refused.error().kind, ErrorKind::unsafe);
    EXPECT_THAT(refused.error().line(), HasSubstr("--onto-same-drive"));
    request.destination.clear();
    EXPECT_TRUE(attach(*catalog_, volumes_, request)) << "where nothing is written, nothing is endangered";
    request.further_destinations = {image_};
    EXPECT_FALSE(attach(*catalog_, volumes_, request)) << "whatever else is written counts as well";
}

}  // namespace
}  // namespace dredger
