// HTML of a stranger: what is left of it.
#include "preview/safe_markup.h"

#include <gmock/gmock.h>

#include "media/text_medium.h"
#include "preview/message_page.h"

namespace dredger {
namespace {

using preview::message_page;
using preview::safe_markup;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

std::string cleaned(const std::string& html) {
    return safe_markup(
        html, [](const std::string& id) { return id == "nest" ? "data:image/png;base64,AAAA" : std::string(); });
}

TEST(SafeMarkup, KeepsWhatLaysOutText) {
    EXPECT_EQ(cleaned("<P class=x>Ten <b>rings</b><br/>&amp; more</P>"), "<p>Ten <b>rings</b><br>&amp; more</p>");
    EXPECT_EQ(cleaned("3 < 4 > 2"), "3 &lt; 4 &gt; 2");
}

TEST(SafeMarkup, NothingRunsOrIsLoaded) {
    for (const char* html :
         {"<script>alert(1)</script>x", "<SCRIPT src=a>alert('>')</SCRIPT >x", "<img src=x onerror=alert(1)>x",
          "<svg onload=alert(1)>x</svg>x", "<a href='javascript:alert(1)'>x</a>", "<p onclick=alert(1)>x",
          "<iframe src=//evil></iframe>x", "<link rel=stylesheet href=//evil>x", "<style>@import url(//evil)</style>x",
          "<!-- <script>alert(1)</script> -->x", "<scr<script>ipt>alert(1)</script>x",
          "<p title=\"><script>alert(1)</script>\">x", "<object data=//evil></object>x",
          "<img src=\"cid:nest\" onerror=\"alert(1)\">x", "<base href=//evil>x",
          "<meta http-equiv=refresh content='0;//evil'>x", "<p"}) {
        const std::string left = cleaned(html);
        EXPECT_THAT(left, AllOf(Not(HasSubstr("script")), Not(HasSubstr("onerror")), Not(HasSubstr("onclick")),
                                Not(HasSubstr("onload")), Not(HasSubstr("href")), Not(HasSubstr("evil"))))
            << html;
    }
}

TEST(SafeMarkup, PicturesAreThoseOfTheMessage) {
    EXPECT_EQ(cleaned("<img width=1 src='cid:nest'>"), "<img src=\"data:image/png;base64,AAAA\" alt=\"\">");
    EXPECT_EQ(cleaned("<img src='cid:other'>"), "");
    EXPECT_EQ(cleaned("<img src='https://elsewhere.example/1.gif'>"), "<i>[picture left out]</i>");
}

TEST(MessagePage, ShowsHeaderTextAndOwnPictures) {
    const TextMedium mail(
        "From: Ada <ada@skerry.example>\nSubject: <b>Nest</b>\nMIME-Version: 1.0\nContent-Type: multipart/related; "
        "boundary=b\n\n"
        "--b\nContent-Type: text/html\n\n<p>See <img src=\"cid:n\"></p>\n"
        "--b\nContent-Type: image/png; name=n.png\nContent-ID: <n>\nContent-Transfer-Encoding: base64\n\niVBORw==\n"
        "--b\nContent-Type: text/csv; name=log.csv\nContent-Disposition: attachment\n\na;b\n--b--\n",
        "mail");
    const std::string page = message_page(mail);
    EXPECT_THAT(
        page,
        AllOf(HasSubstr("<dt>From</dt><dd>Ada &lt;ada@skerry.example&gt;</dd>"),
              HasSubstr("<dd>&lt;b&gt;Nest&lt;/b&gt;</dd>"), HasSubstr("<img src=\"data:image/png;base64,iVBORw==\""),
              HasSubstr("<dd>log.csv (text/csv)</dd>"), Not(HasSubstr("n.png")), HasSubstr("default-src 'none'")));
}

TEST(MessagePage, PlainTextStaysPlain) {
    const TextMedium mail("From: a@b.example\nSubject: x\n\n<script>alert(1)</script>\n", "mail");
    EXPECT_THAT(message_page(mail), HasSubstr("&lt;script&gt;alert(1)&lt;/script&gt;"));
}

}  // namespace
}  // namespace dredger
