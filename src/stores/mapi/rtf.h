// The text of messages that is kept as RTF: packed ([MS-OXRTFCP]), and with HTML or plain text within it
// ([MS-OXRTFEX]).
#pragma once

#include <optional>
#include <string>
#include <string_view>

namespace dredger::stores::mapi {

// None where it is not packed RTF. What is cut short is unpacked as far as it goes; `whole` becomes false then.
std::optional<std::string> unpack_rtf(std::string_view packed, bool& whole);

struct TextInRtf {
    std::string html;   // in the character set `charset`; empty: it was not made from HTML
    std::string plain;  // UTF-8; empty: it was not made from plain text
    std::string words;  // UTF-8: what it says, where it was made from neither
    std::string charset;
};
TextInRtf text_in_rtf(std::string_view rtf);

}  // namespace dredger::stores::mapi
