#include "stores/mapi/properties.h"

#include <algorithm>
#include <fmt/format.h>
#include <memory>
#include <unicode/ucnv.h>

#include "base/bytes.h"
#include "base/text.h"
#include "media/text_medium.h"
#include "stores/composing.h"

namespace dredger::stores {

std::string charset_of_code_page(unsigned code_page) {
    switch (code_page) {
        case 65001: return "utf-8";
        case 20127: return "us-ascii";
        case 932: return "shift_jis";
        case 936: return "gbk";
        case 949: return "ks_c_5601-1987";
        case 950: return "big5";
        case 20866: return "koi8-r";
        case 21866: return "koi8-u";
        case 20932:
        case 51932: return "euc-jp";
        case 50220:
        case 50221:
        case 50222: return "iso-2022-jp";
        case 51936:
        case 52936: return "gb2312";
        case 54936: return "gb18030";
        case 51949: return "euc-kr";
        default: break;
    }
    if (code_page >= 28591 && code_page <= 28605) return fmt::format("iso-8859-{}", code_page - 28590);
    if ((code_page >= 1250 && code_page <= 1258) || code_page == 874) return fmt::format("windows-{}", code_page);
    return "windows-1252";
}

namespace mapi {

std::string from_charset(std::string_view text, const std::string& charset) {
    if (std::all_of(text.begin(), text.end(), [](char c) { return static_cast<unsigned char>(c) < 0x80; }) &&
        !charset.starts_with("iso-2022"))
        return std::string(text);
    UErrorCode failed = U_ZERO_ERROR;
    const std::unique_ptr<UConverter, decltype(&ucnv_close)> converter(ucnv_open(charset.c_str(), &failed), ucnv_close);
    if (U_FAILURE(failed) || text.size() > INT32_MAX / 2)
        return code_page_to_utf8(std::as_bytes(std::span(text)), CodePage::windows1252);
    std::u16string wide(text.size() * 2 + 8, u'\0');
    const std::int32_t length = ucnv_toUChars(converter.get(), wide.data(), static_cast<std::int32_t>(wide.size()),
                                              text.data(), static_cast<std::int32_t>(text.size()), &failed);
    if (U_FAILURE(failed)) return code_page_to_utf8(std::as_bytes(std::span(text)), CodePage::windows1252);
    wide.resize(static_cast<std::size_t>(length));
    return utf16_to_utf8(wide);
}

std::string from_code_page(std::string_view text, unsigned code_page) {
    return from_charset(text, charset_of_code_page(code_page));
}

std::string all_of(const Medium& content, std::size_t most, bool& whole) {
    const auto length = static_cast<std::size_t>(std::min<std::uint64_t>(content.size(), most));
    std::string bytes(length, '\0');
    std::vector<Extent> bad;
    const auto read = content.read(0, std::as_writable_bytes(std::span(bytes)), &bad);
    whole = whole && read && bad.empty() && length == content.size();
    return bytes;
}

const Value* Properties::find(std::uint16_t tag) const {
    const auto found = values_.find(tag);
    return found == values_.end() ? nullptr : &found->second;
}

unsigned Properties::code_page() const {
    for (const std::uint16_t tag : {PidTagMessageCodepage, PidTagInternetCodepage})
        if (const auto page = number(tag); page && *page > 0 && *page < 65536 && *page != 1200)
            return static_cast<unsigned>(*page);
    return outer_code_page_;
}

std::string Properties::bytes(std::uint16_t tag) const {
    const Value* value = find(tag);
    if (value == nullptr) return {};
    was_whole_ = was_whole_ && value->is_whole;
    return value->content ? all_of(*value->content, kMaxText, was_whole_) : value->bytes;
}

std::string Properties::text(std::uint16_t tag) const {
    const Value* value = find(tag);
    if (value == nullptr) return {};
    std::string stored = bytes(tag);
    std::string text;
    if (value->type == Type::string)
        text = utf16le_to_utf8(std::as_bytes(std::span(stored)));
    else if (value->type == Type::string8)
        text = from_code_page(stored, code_page());
    else
        return {};
    while (text.ends_with('\0')) text.pop_back();
    return text;
}

std::optional<std::int64_t> Properties::number(std::uint16_t tag) const {
    const Value* value = find(tag);
    if (value == nullptr) return std::nullopt;
    const ByteView stored = view_of(value->bytes);
    switch (value->type) {
        case Type::integer16: return stored.u16le(0).map([](auto v) { return std::int64_t{v}; }).value_or(0);
        case Type::integer32:
            return stored.u32le(0).map([](auto v) { return std::int64_t{static_cast<std::int32_t>(v)}; }).value_or(0);
        case Type::boolean: return stored.u8(0).map([](auto v) { return std::int64_t{v != 0}; }).value_or(0);
        case Type::integer64:
            return stored.u64le(0).map([](auto v) { return static_cast<std::int64_t>(v); }).value_or(0);
        default: return std::nullopt;
    }
}

std::optional<FileTime> Properties::time(std::uint16_t tag) const {
    const Value* value = find(tag);
    if (value == nullptr || value->type != Type::time) return std::nullopt;
    const auto steps = view_of(value->bytes).u64le(0);
    return steps ? windows_time(*steps) : std::nullopt;
}

bool Properties::is_whole(std::uint16_t tag) const {
    const Value* value = find(tag);
    return value == nullptr || value->is_whole;
}

MediumPtr Properties::content(std::uint16_t tag) const {
    const Value* value = find(tag);
    if (value == nullptr) return nullptr;
    return value->content ? value->content : std::make_shared<TextMedium>(value->bytes, "property");
}

}  // namespace mapi
}  // namespace dredger::stores
