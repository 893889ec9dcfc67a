#include "preview/searching.h"

#include <algorithm>
#include <cstring>

#include "formats/compound_file.h"
#include "preview/compound.h"
#include "preview/decoders.h"
#include "preview/sandbox.h"
#include "preview/text.h"

namespace dredger::preview {
namespace {

constexpr std::size_t kPiece = 1 << 20;         // bytes searched together
constexpr std::size_t kMostDocument = 8 << 20;  // bytes of a document's text

std::string lower_case(std::string text) {
    for (char& c : text)
        if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
    return text;
}

// The low byte of each unit and a zero: right for the characters that Latin writing is made of.
std::string utf16_of(const std::string& utf8) {
    std::string wide;
    for (std::size_t at = 0; at < utf8.size(); ++at) {
        auto c = static_cast<unsigned char>(utf8[at]);
        unsigned unit = c;
        if ((c & 0xE0U) == 0xC0 && at + 1 < utf8.size())
            unit = (c & 0x1FU) << 6 | (static_cast<unsigned char>(utf8[++at]) & 0x3FU);
        else if ((c & 0xF0U) == 0xE0 && at + 2 < utf8.size()) {
            unit = (c & 0x0FU) << 12 | (static_cast<unsigned char>(utf8[at + 1]) & 0x3FU) << 6 |
                   (static_cast<unsigned char>(utf8[at + 2]) & 0x3FU);
            at += 2;
        }
        wide += static_cast<char>(unit & 0xFFU);
        wide += static_cast<char>(unit >> 8);
    }
    return wide;
}

bool stands_in(Reader& content, const std::string& narrow, const std::string& wide) {
    for (std::uint64_t at = 0; at < content.size();) {
        const std::string piece = lower_case(content.text(at, kPiece));
        for (const std::string& wanted : {narrow, wide})
            if (::memmem(piece.data(), piece.size(), wanted.data(), wanted.size()) != nullptr) return true;
        // What can't be read is passed over.
        if (piece.size() < kPiece && at + piece.size() < content.size() && content.budget().is_spent()) break;
        if (piece.size() < kPiece && at + piece.size() < content.size()) {
            constexpr std::uint64_t kSector = 512;
            at = (at + piece.size()) / kSector * kSector + kSector;
            continue;
        }
        // What the text lies across is searched again.
        if (piece.size() <= wide.size()) break;
        at += piece.size() - wide.size();
    }
    return false;
}

}  // namespace

bool contains(const Medium& content, const Candidate& candidate, const std::string& text) {
    const std::string wanted = lower_case(text);
    Budget budget;
    Reader reader(content, budget);
    if (stands_in(reader, wanted, utf16_of(wanted))) return true;
    const bool is_pdf = candidate.format == "pdf";
    const bool is_mail = candidate.format == "eml" || candidate.format == "mbox";
    const bool is_compound = reader.has(0, formats::CompoundFile::kMark);
    if (!is_pdf && !is_mail && !is_compound && !reader.has(0, "PK\3\4")) return false;
    const auto found = run_apart([&] {
        const std::string document = is_pdf        ? text_of_pages(content, kMostDocument)
                                     : is_mail     ? text_of_mail(content, kMostDocument)
                                     : is_compound ? compound_text(reader, kMostDocument)
                                                   : office_text(reader, kMostDocument);
        return std::string(lower_case(document).find(wanted) != std::string::npos ? "yes" : "no");
    });
    return found == "yes";
}

}  // namespace dredger::preview
