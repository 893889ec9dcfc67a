#include "repairing/office/xml_cut.h"

#include <gmock/gmock.h>

namespace dredger::repairing {
namespace {

TEST(XmlCut, WhatIsWholeStays) {
    const std::string xml =
        "<?xml version=\"1.0\"?><!-- log --><a xmlns:w='u'><w:b c=\"1\">tern &amp; gull</w:b><d/></a>\n";
    const CutXml cut = cut_xml(xml);
    EXPECT_TRUE(cut.was_whole);
    EXPECT_EQ(cut.text, xml);
}

TEST(XmlCut, ClosesWhatIsOpen) {
    EXPECT_EQ(cut_xml("<a><b>tern</b><c d='1'>gu").text, "<a><b>tern</b><c d='1'>gu</c></a>");
    EXPECT_EQ(cut_xml("<a><b>tern</b><c d='1").text, "<a><b>tern</b></a>");
    EXPECT_EQ(cut_xml("<a>tern &am").text, "<a>tern </a>");
}

TEST(XmlCut, StopsWhereItIsNoXml) {
    EXPECT_EQ(cut_xml("<a><b>x</b><c>y</d></a>").text, "<a><b>x</b><c>y</c></a>");
    EXPECT_EQ(cut_xml("<a><b>x</b><c e='1' e='2'/></a>").text, "<a><b>x</b></a>");
    EXPECT_EQ(cut_xml("<a><w:b>x</w:b></a>").text, "<a></a>");  // a prefix that nobody declares
}

TEST(XmlCut, WithoutARootThereIsNothing) {
    EXPECT_EQ(cut_xml("").text, "");
    EXPECT_EQ(cut_xml("<?xml version=\"1.0\"?><a b=").text, "");
    EXPECT_EQ(cut_xml(std::string(300, '\0')).text, "");
}

}  // namespace
}  // namespace dredger::repairing
