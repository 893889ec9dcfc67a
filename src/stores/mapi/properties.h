// Properties of messages, folders, recipients and attachments ([MS-OXPROPS], [MS-OXCDATA] 2.11), from whatever keeps
// them: property contexts of a PST, streams of a MSG, attributes of a TNEF.
#pragma once

#include <array>
#include <map>
#include <optional>
#include <string>

#include "base/times.h"
#include "media/medium.h"

namespace dredger::stores::mapi {

enum class Type : std::uint16_t {
    integer16 = 0x0002,
    integer32 = 0x0003,
    floating64 = 0x0005,
    error = 0x000A,
    boolean = 0x000B,
    object = 0x000D,
    integer64 = 0x0014,
    string8 = 0x001E,  // in the message's code page
    string = 0x001F,   // UTF-16LE
    time = 0x0040,
    guid = 0x0048,
    binary = 0x0102,
};

// The tags of [MS-OXPROPS] that are asked for, by their canonical names.
enum Tag : std::uint16_t {
    PidTagMessageClass = 0x001A,
    PidTagSubject = 0x0037,
    PidTagClientSubmitTime = 0x0039,
    PidTagSubjectPrefix = 0x003D,
    PidTagSentRepresentingName = 0x0042,
    PidTagSentRepresentingEmailAddress = 0x0065,
    PidTagTransportMessageHeaders = 0x007D,
    PidTagSenderName = 0x0C1A,
    PidTagRecipientType = 0x0C15,
    PidTagSenderEmailAddress = 0x0C1F,
    PidTagDisplayBcc = 0x0E02,
    PidTagDisplayCc = 0x0E03,
    PidTagDisplayTo = 0x0E04,
    PidTagMessageDeliveryTime = 0x0E06,
    PidTagMessageFlags = 0x0E07,
    PidTagHasAttachments = 0x0E1B,
    PidTagNormalizedSubject = 0x0E1D,
    PidTagBody = 0x1000,
    PidTagRtfCompressed = 0x1009,
    PidTagHtml = 0x1013,
    PidTagInternetMessageId = 0x1035,
    PidTagInternetReferences = 0x1039,
    PidTagInReplyToId = 0x1042,
    PidTagDisplayName = 0x3001,
    PidTagAddressType = 0x3002,
    PidTagEmailAddress = 0x3003,
    PidTagCreationTime = 0x3007,
    PidTagLastModificationTime = 0x3008,
    PidTagIpmSubTreeEntryId = 0x35E0,
    PidTagIpmWastebasketEntryId = 0x35E3,
    PidTagAttachDataBinary = 0x3701,  // or PidTagAttachDataObject
    PidTagAttachFilename = 0x3704,
    PidTagAttachMethod = 0x3705,
    PidTagAttachLongFilename = 0x3707,
    PidTagAttachMimeTag = 0x370E,
    PidTagAttachContentId = 0x3712,
    PidTagAttachFlags = 0x3714,
    PidTagSmtpAddress = 0x39FE,
    PidTagGivenName = 0x3A06,
    PidTagBusinessTelephoneNumber = 0x3A08,
    PidTagHomeTelephoneNumber = 0x3A09,
    PidTagSurname = 0x3A11,
    PidTagCompanyName = 0x3A16,
    PidTagTitle = 0x3A17,
    PidTagMobileTelephoneNumber = 0x3A1C,
    PidTagInternetCodepage = 0x3FDE,
    PidTagMessageCodepage = 0x3FFD,
    PidTagSenderSmtpAddress = 0x5D01,
    PidTagSentRepresentingSmtpAddress = 0x5D02,
    PidTagPstPassword = 0x67FF,
};

// Sets whose properties have names instead of tags ([MS-OXPROPS] 1.3.2).
inline constexpr std::array<std::uint8_t, 16> kAppointmentSet = {0x02, 0x20, 0x06, 0x00, 0, 0, 0, 0,
                                                                 0xC0, 0,    0,    0,    0, 0, 0, 0x46};
inline constexpr std::array<std::uint8_t, 16> kTaskSet = {0x03, 0x20, 0x06, 0x00, 0, 0, 0, 0,
                                                          0xC0, 0,    0,    0,    0, 0, 0, 0x46};
inline constexpr std::array<std::uint8_t, 16> kAddressSet = {0x04, 0x20, 0x06, 0x00, 0, 0, 0, 0,
                                                             0xC0, 0,    0,    0,    0, 0, 0, 0x46};

// Which set and number a tag above 0x8000 stands for in one store or message.
struct NamedTag {
    std::array<std::uint8_t, 16> set{};
    std::uint32_t number = 0;
    auto operator<=>(const NamedTag&) const = default;
};
using NamedTags = std::map<NamedTag, std::uint16_t>;

struct Value {
    Type type = Type::error;
    std::string bytes;     // as it is stored
    MediumPtr content;     // of long ones: they are read where they lie; null: `bytes` has all
    bool is_whole = true;  // false: there was more of it, and nothing tells how much
};

class Properties {
  public:
    static constexpr std::size_t kMaxText = 64 << 20;  // bytes

    void set(std::uint16_t tag, Value value) { values_[tag] = std::move(value); }
    bool empty() const { return values_.empty(); }
    bool has(std::uint16_t tag) const { return values_.contains(tag); }
    const Value* find(std::uint16_t tag) const;

    // Text in UTF-8; empty where there is none. Text that can't be read in full is noted.
    std::string text(std::uint16_t tag) const;
    // The first that there is.
    template <class... Tags>
    std::string text(std::uint16_t first, Tags... others) const {
        std::string found = text(first);
        if constexpr (sizeof...(others) > 0)
            if (found.empty()) return text(others...);
        return found;
    }
    std::string bytes(std::uint16_t tag) const;
    std::optional<std::int64_t> number(std::uint16_t tag) const;
    bool is_set(std::uint16_t tag) const { return number(tag).value_or(0) != 0; }
    std::optional<FileTime> time(std::uint16_t tag) const;
    bool is_whole(std::uint16_t tag) const;
    // What is stored, as a medium; null where there is none.
    MediumPtr content(std::uint16_t tag) const;

    // Of text that is not Unicode.
    unsigned code_page() const;
    void set_code_page(unsigned page) { outer_code_page_ = page; }

    // Whether all that was asked for could be read.
    bool was_whole() const { return was_whole_; }

  private:
    std::map<std::uint16_t, Value> values_;
    unsigned outer_code_page_ = 0;
    mutable bool was_whole_ = true;
};

// Text of a code page of Windows in UTF-8; that of an unknown one is taken for Western European.
std::string from_code_page(std::string_view text, unsigned code_page);
std::string from_charset(std::string_view text, const std::string& charset);

// The first `most` bytes; zeros stand for those that can't be read, and `whole` becomes false where there are any, or
// more.
std::string all_of(const Medium& content, std::size_t most, bool& whole);

}  // namespace dredger::stores::mapi
