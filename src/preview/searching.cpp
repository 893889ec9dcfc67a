#include "preview/searching.h"

#include <algorithm>

#include "formats/compound_file.h"
#include "preview/compound.h"
#include "preview/decoders.h"
#include "preview/sandbox.h"
#include "preview/text.h"
#include "preview/wanted_text.h"

namespace dredger::preview {
namespace {

constexpr std::size_t kPiece = 1 << 20;        // bytes searched together
constexpr std::size_t kMaxDocument = 8 << 20;  // bytes of a document's text

bool stands_in(Reader& content, const WantedText& wanted) {
    constexpr std::uint64_t kSector = 512;
    for (std::uint64_t at = 0; at < content.size();) {
        const std::string piece = content.text(at, kPiece);
        if (wanted.stands_in(piece)) return true;
        const std::uint64_t end = at + piece.size();
        if (content.budget().is_spent() || end >= content.size()) break;
        // What can't be read is passed over; what the text lies across is searched again.
        at = piece.size() < kPiece ? end / kSector * kSector + kSector : end - std::min(wanted.longest(), kPiece / 2);
    }
    return false;
}

}  // namespace

std::string document_text(const Medium& content, const std::string& format, std::size_t most) {
    Budget budget;
    Reader reader(content, budget);
    const bool is_pdf = format == "pdf";
    const bool is_mail = format == "eml" || format == "mbox";
    const bool is_compound = reader.has(0, formats::CompoundFile::kMark);
    if (!is_pdf && !is_mail && !is_compound && !reader.has(0, "PK\3\4")) return {};
    const auto text = run_apart([&] {
        return is_pdf        ? text_of_pages(content, most)
               : is_mail     ? text_of_mail(content, most)
               : is_compound ? compound_text(reader, most)
                             : office_text(reader, most);
    });
    return text.value_or("");
}

bool contains(const Medium& content, const Candidate& candidate, const std::string& text) {
    const WantedText wanted(text);
    Budget budget;
    Reader reader(content, budget);
    if (stands_in(reader, wanted)) return true;
    return wanted.stands_in(document_text(content, candidate.format, kMaxDocument));
}

}  // namespace dredger::preview
