#include "lives/vim_swap.h"

#include <algorithm>
#include <set>

#include "base/checked.h"
#include "base/text.h"
#include "media/text_medium.h"

namespace dredger::lives {
namespace {

// struct block0
constexpr std::uint64_t kPageSize = 12, kUser = 28, kHost = 68, kFileName = 108, kMagicLong = 1008;
constexpr std::size_t kUserBytes = 40, kFileNameBytes = 900;
constexpr std::uint64_t kFlags = kFileName + kFileNameBytes - 2;
constexpr std::uint32_t kMagicLongValue = 0x30313233, kMagicIntValue = 0x20212223;
constexpr unsigned kDeepest = 32;  // levels of pointer blocks

// Numbers as the machine wrote them that edited the file.
class Swap {
  public:
    static std::optional<Swap> open(Reader& content) {
        const std::string mark = content.text(0, 2);
        if (mark.size() < 2 || mark[0] != 'b' || (mark[1] != '0' && mark[1] != 'c' && mark[1] != 'C' && mark[1] != 'd'))
            return std::nullopt;
        if (!content.has(2, "VIM ")) return std::nullopt;
        for (const bool big : {false, true})
            for (const unsigned wide : {8U, 4U}) {
                Swap swap(content, big, wide);
                if (swap.number(kMagicLong, wide) != kMagicLongValue ||
                    swap.number(kMagicLong + wide, 4) != kMagicIntValue)
                    continue;
                // Always written with the low byte first.
                swap.page_ = content.u32le(kPageSize);
                if (swap.page_ < 1024 || swap.page_ > (1 << 20)) return std::nullopt;
                swap.is_encrypted_ = mark[1] != '0';
                return swap;
            }
        return std::nullopt;
    }

    SwapText read() {
        SwapText found;
        found.is_encrypted = is_encrypted_;
        found.user = terminated(kUser, kUserBytes);
        found.host = terminated(kHost, kUserBytes);
        const unsigned flags = content_.u8(kFlags);
        const std::string name = terminated(kFileName, kFileNameBytes - 2);
        found.path = valid_utf8(name);
        if (is_encrypted_) return found;
        line_end_ = (flags & 3) == 2 ? "\r\n" : (flags & 3) == 3 ? "\r" : "\n";
        read_block(1, 1, 0, found);
        return found;
    }

  private:
    Swap(Reader& content, bool big, unsigned wide) : content_(content), big_(big), wide_(wide) {}

    std::uint64_t number(std::uint64_t at, unsigned bytes) {
        switch (bytes) {
            case 2: return big_ ? content_.u16be(at) : content_.u16le(at);
            case 4: return big_ ? content_.u32be(at) : content_.u32le(at);
            default: return big_ ? content_.u64be(at) : content_.u64le(at);
        }
    }

    std::string terminated(std::uint64_t at, std::size_t most) {
        const std::string text = content_.text(at, most);
        return text.substr(0, text.find('\0'));
    }

    // `lines`: that the pointer to it counts; 0: not known.
    void read_block(std::uint64_t block, std::uint64_t pages, std::uint64_t lines, SwapText& found,
                    unsigned depth = 0) {
        const auto place = checked_mul(block, page_);
        const bool is_there =
            place && content_.holds(*place, page_) && seen_.insert(block).second && depth < kDeepest && content_.ok();
        const std::string mark = is_there ? content_.text(*place, 2) : std::string();
        if (mark == (big_ ? "pt" : "tp"))
            read_pointers(*place, found, depth);
        else if (mark == (big_ ? "da" : "ad"))
            read_lines(*place, pages, lines, found);
        else
            found.missing += lines;
    }

    void read_pointers(std::uint64_t at, SwapText& found, unsigned depth) {
        // struct pointer_block: three short numbers, then entries of three long ones and an int.
        const std::uint64_t entry = wide_ == 8 ? 32 : 16;
        const std::uint64_t first = at + 8;
        const std::uint64_t count = std::min(number(at + 2, 2), (page_ - 8) / entry);
        for (std::uint64_t n = 0; n < count && content_.ok(); ++n) {
            const std::uint64_t here = first + n * entry;
            read_block(number(here, wide_), number(here + 3 * std::uint64_t{wide_}, 4), number(here + wide_, wide_),
                       found, depth + 1);
        }
    }

    void read_lines(std::uint64_t at, std::uint64_t pages, std::uint64_t counted, SwapText& found) {
        const std::uint64_t length = std::min(std::max<std::uint64_t>(pages, 1) * page_, content_.size() - at);
        // struct data_block: the lines stand at its end, the first one last.
        std::uint64_t end = number(at + 12, 4);
        const std::uint64_t lines = number(at + 16, wide_), index = 16 + std::uint64_t{wide_};
        if (end > length || lines > (length - index) / 4) {
            found.missing += counted;
            return;
        }
        for (std::uint64_t n = 0; n < lines && content_.ok(); ++n) {
            const std::uint64_t start = number(at + index + 4 * n, 4) & 0x7FFFFFFF;  // the highest bit is a mark
            if (start >= end) {
                ++found.missing;
                continue;
            }
            for (std::uint64_t from = start; from < end;) {
                const std::string part = content_.text(at + from, std::min<std::uint64_t>(end - from, 1 << 16));
                if (part.empty()) break;
                std::string line = part.substr(0, part.find('\0'));
                std::replace(line.begin(), line.end(), '\n', '\0');  // as it is kept in memory
                found.text += line;
                if (line.size() < part.size()) break;
                from += part.size();
            }
            found.text += line_end_;
            ++found.lines;
            end = start;
        }
    }

    Reader& content_;
    bool big_;
    unsigned wide_;  // bytes of a long number
    std::uint64_t page_ = 0;
    bool is_encrypted_ = false;
    std::string line_end_ = "\n";
    std::set<std::uint64_t> seen_;
};

}  // namespace

std::optional<SwapText> text_of_vim_swap(Reader& content) {
    auto swap = Swap::open(content);
    if (!swap) return std::nullopt;
    return swap->read();
}

MediumPtr document_in_swap(const Medium& content) {
    Budget budget;
    Reader reader(content, budget);
    auto swap = text_of_vim_swap(reader);
    if (!swap || swap->is_encrypted || swap->missing > 0 || swap->lines == 0) return nullptr;
    return std::make_shared<TextMedium>(std::move(swap->text), content.name());
}

ToldByContent told_by_vim_swap(Reader& content) {
    ToldByContent told;
    const auto swap = text_of_vim_swap(content);
    // Other editors begin theirs in the same way, and write something else into them.
    if (!swap) {
        told.is_one = content.has(0, "b0");
        return told;
    }
    told.path = swap->path;
    while (told.path.starts_with('/')) told.path.erase(0, 1);
    if (told.path.starts_with('~')) {
        const std::size_t slash = told.path.find('/');
        told.path = slash == told.path.npos ? "" : told.path.substr(slash + 1);
    }
    if (!swap->user.empty())
        told.facts.push_back("edited by " + swap->user + (swap->host.empty() ? "" : " on " + swap->host));
    if (swap->is_encrypted) told.facts.emplace_back("its text is encrypted");
    return told;
}

}  // namespace dredger::lives
