#include "formats/families.h"

namespace dredger::formats {

const std::vector<Format>& mail() {
    static const std::vector<Format> family = {
        {"eml", Kind::mail, {"eml", "emlx"}, {}, true},
        {"mbox", Kind::mail, {"mbox", "mbx"}, {}, true},
        {"msg", Kind::mail, {"msg"}, {{{0, "\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1"sv}}}},
        {"pst", Kind::mail, {"pst", "ost"}, {{{0, "!BDN"sv}}}},
        {"dbx", Kind::mail, {"dbx"}, {{{0, "\xCF\xAD\x12\xFE"sv}}}},
    };
    return family;
}

}  // namespace dredger::formats
