#include "repairing/office/salvage.h"

#include <algorithm>
#include <fmt/format.h>
#include <pugixml.hpp>

#include "formats/bytes_of_content.h"
#include "repairing/picture/pictures_within.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::size_t kLeastRun = 16;         // characters
constexpr std::size_t kMostText = 32 << 20;   // bytes
constexpr std::uint64_t kLeastPicture = 512;  // bytes

std::string_view local_name(const pugi::xml_node& node) {
    const std::string_view name = node.name();
    return name.substr(name.find(':') + 1);  // all of it where there is no prefix
}

class TextWalk final : public pugi::xml_tree_walker {
  public:
    bool for_each(pugi::xml_node& node) override {
        if (node.type() == pugi::node_pcdata || node.type() == pugi::node_cdata) {
            text_ += node.value();
            return text_.size() < kMostText;
        }
        const std::string_view name = local_name(node);
        const std::string_view parent = local_name(node.parent());
        if (name == "p" && (parent == "tc" || parent == "table-cell")) return true;
        if (name == "p" || name == "h" || name == "tr" || name == "row" || name == "table-row" || name == "br")
            end_line();
        else if (name == "tab" || name == "tc" || name == "table-cell")
            text_ += text_.empty() || text_.back() == '\n' ? "" : "\t";
        return true;
    }
    std::string finish() {
        end_line();
        return std::move(text_);
    }

  private:
    void end_line() {
        while (!text_.empty() && (text_.back() == '\t' || text_.back() == ' ')) text_.pop_back();
        if (!text_.empty() && text_.back() != '\n') text_ += '\n';
    }
    std::string text_;
};

// A character of Windows-1252 that is text; 0: it is none.
char32_t character_of(unsigned byte) {
    if (byte == '\t' || (byte >= 0x20 && byte < 0x7F)) return byte;
    return byte >= 0xC0 ? byte : 0;  // letters with marks
}

void append_utf8(std::string& text, char32_t c) {
    if (c < 0x80) {
        text += static_cast<char>(c);
    } else if (c < 0x800) {
        text += static_cast<char>(0xC0U | c >> 6);
        text += static_cast<char>(0x80U | (c & 0x3FU));
    } else {
        text += static_cast<char>(0xE0U | c >> 12);
        text += static_cast<char>(0x80U | (c >> 6 & 0x3FU));
        text += static_cast<char>(0x80U | (c & 0x3FU));
    }
}

// Characters that follow each other, each of so many bytes.
class Runs {
  public:
    explicit Runs(std::string& text) : text_(text) {}
    void add(char32_t c) {
        if (c != 0) {
            append_utf8(run_, c);
            letters_ += c == ' ' || (c >= 'a' && c <= 'z') ? 1 : 0;
            ++length_;
        } else {
            close();
        }
    }
    void close() {
        // Of text most is small letters and spaces.
        if (length_ >= kLeastRun && letters_ * 2 > length_ && text_.size() < kMostText) text_ += run_ + "\n";
        run_.clear();
        length_ = letters_ = 0;
    }

  private:
    std::string& text_;
    std::string run_;
    std::size_t length_ = 0, letters_ = 0;
};

}  // namespace

std::string text_of_xml(const std::string& xml) {
    pugi::xml_document document;
    document.load_buffer(xml.data(), xml.size(), pugi::parse_default | pugi::parse_ws_pcdata_single);
    TextWalk walk;
    document.traverse(walk);
    return walk.finish();
}

std::string text_between_tags(std::string_view piece) {
    std::string text;
    // What stands in front of the first end of a tag may be the inside of one.
    std::size_t at = piece.find('>');
    const std::size_t first = piece.find('<');
    at = at == std::string_view::npos || first < at ? 0 : at + 1;
    while (at < piece.size()) {
        const std::size_t tag = std::min(piece.find('<', at), piece.size());
        text += piece.substr(at, tag - at);
        const std::size_t end = piece.find('>', tag);
        if (end == std::string_view::npos) break;
        const std::string_view name = piece.substr(tag, end - tag);
        const bool ends_line = name.ends_with(":p") || name.ends_with(":h") || name.ends_with(":tr") || name == "</row";
        if (ends_line && name.starts_with("</") && !text.empty() && text.back() != '\n') text += '\n';
        at = end + 1;
    }
    return text;
}

std::string text_in(Reader& content) {
    std::string text;
    Runs narrow(text);
    Runs wide(text);
    unsigned before = 0;
    bool is_second = false;
    formats::each_span(content, 0, content.size(), [&](std::span<const std::byte> bytes) {
        for (const std::byte b : bytes) {
            const auto byte = std::to_integer<unsigned>(b);
            // Paragraphs of the older formats end with a carriage return alone.
            narrow.add(character_of(byte));
            if (is_second) {
                const unsigned unit = byte << 8 | before;
                wide.add(unit >= 0x100 && unit < 0x2100 ? char32_t{unit} : unit < 0x100 ? character_of(unit) : 0);
            }
            is_second = !is_second;
            before = byte;
        }
    });
    narrow.close();
    wide.close();
    return text;
}

Result<void> save_beside(Mended& done, const Workbench& bench, const std::string& text, std::string_view name) {
    if (text.empty()) return {};
    DREDGER_TRY(Output output, bench.output());
    output.add(text);
    DREDGER_CHECK(output.finish());
    done.beside.push_back({std::string(name), std::move(output)});
    return {};
}

Result<void> save_pictures_beside(Mended& done, const Damaged& file, const Workbench& bench) {
    std::vector<std::pair<Extent, const char*>> pictures;
    for (const Extent& picture : pictures_in(file, bench, "jpeg", kLeastPicture)) pictures.emplace_back(picture, "jpg");
    for (const Extent& picture : pictures_in(file, bench, "png", kLeastPicture)) pictures.emplace_back(picture, "png");
    std::sort(pictures.begin(), pictures.end(),
              [](const auto& a, const auto& b) { return a.first.offset < b.first.offset; });
    std::size_t number = 0;
    for (const auto& [picture, ending] : pictures) {
        DREDGER_TRY(Output output, bench.output());
        output.add(*file.content, picture.offset, picture.length);
        DREDGER_CHECK(output.finish());
        done.beside.push_back({fmt::format(" (picture {}).{}", ++number, ending), std::move(output)});
    }
    return {};
}

}  // namespace dredger::repairing
