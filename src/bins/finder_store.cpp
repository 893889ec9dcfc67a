#include "bins/finder_store.h"

#include <optional>
#include <unordered_set>

#include "base/text.h"

namespace dredger {
namespace {

using boost::endian::big_uint32_t;

constexpr std::uint64_t kBase = 4;  // bytes: all places count from here
constexpr std::size_t kMostBlocks = 65'536, kMostNotes = 1'000'000;

struct Head {
    big_uint32_t one;
    char magic[4];  // "Bud1"
    big_uint32_t root_at;
    big_uint32_t root_size;
    big_uint32_t root_at_again;
};
static_assert(sizeof(Head) == 20);

std::string text_of(ByteView utf16be) {
    std::u16string units;
    for (std::size_t i = 0; i + 1 < utf16be.size(); i += 2)
        units += static_cast<char16_t>(utf16be.as<boost::endian::big_uint16_t>(i)->value());
    return composed(utf16_to_utf8(units));
}

class Store {
  public:
    explicit Store(ByteView file) : file_(file) {}

    std::vector<FinderNote> read() {
        const auto head = file_.as<Head>(0);
        if (!head || !file_.has(4, "Bud1") || head->root_at != head->root_at_again) return {};
        const auto root = file_.slice(kBase + head->root_at, head->root_size);
        if (!root) return {};
        const auto tree = read_root(*root);
        const auto top = tree ? block(*tree) : std::nullopt;
        const auto first = top ? number(*top, 0) : std::nullopt;
        if (first) read_node(*first, 0);
        return std::move(notes_);
    }

  private:
    static std::optional<std::uint32_t> number(ByteView view, std::size_t at) {
        const auto value = view.as<big_uint32_t>(at);
        return value ? std::optional<std::uint32_t>(value->value()) : std::nullopt;
    }

    // The addresses of all blocks, in groups of 256, and the number of the one that tells of the tree.
    std::optional<std::uint32_t> read_root(ByteView root) {
        constexpr std::size_t kHead = 8, kGroup = 256;
        const auto count = number(root, 0);
        if (!count || *count > kMostBlocks) return std::nullopt;
        for (std::size_t i = 0; i < *count; ++i) {
            const auto address = number(root, kHead + i * 4);
            if (!address) return std::nullopt;
            addresses_.push_back(*address);
        }
        std::size_t at = kHead + divide_up(*count, kGroup) * kGroup * 4;
        const auto names = number(root, at);
        at += 4;
        for (std::uint32_t i = 0; names && i < *names; ++i) {
            const auto length = root.u8(at);
            if (!length) break;
            const bool is_tree = root.has(at + 1, "DSDB");
            const auto block_number = number(root, at + 1 + *length);
            if (is_tree) return block_number;
            at += 1 + *length + 4;
        }
        return std::nullopt;
    }

    // Its address has the logarithm of its size in the lowest five bits.
    std::optional<ByteView> block(std::uint32_t index) const {
        if (index >= addresses_.size()) return std::nullopt;
        const std::uint32_t address = addresses_[index];
        auto bytes = file_.slice(kBase + (address & ~31U), std::size_t{1} << (address & 31U));
        return bytes ? std::optional(*bytes) : std::nullopt;
    }

    void read_node(std::uint32_t index, unsigned depth) {
        constexpr unsigned kDeepest = 16;
        const auto node = depth < kDeepest && seen_.insert(index).second ? block(index) : std::nullopt;
        const auto last_child = node ? number(*node, 0) : std::nullopt;
        const auto count = node ? number(*node, 4) : std::nullopt;
        if (!last_child || !count) return;
        std::size_t at = 8;
        for (std::uint32_t i = 0; i < *count && notes_.size() < kMostNotes; ++i) {
            if (*last_child != 0) {
                const auto child = number(*node, at);
                if (!child) return;
                read_node(*child, depth + 1);
                at += 4;
            }
            if (!read_note(*node, at)) return;
        }
        if (*last_child != 0) read_node(*last_child, depth + 1);
    }

    // Moves `at` behind it; false: it makes no sense.
    bool read_note(ByteView node, std::size_t& at) {
        const auto length = number(node, at);
        if (!length) return false;
        const auto name = node.slice(at + 4, std::size_t{*length} * 2);
        if (!name) return false;
        at += 4 + name->size();
        const auto codes = node.slice(at, 8);
        if (!codes) return false;
        const std::string both(reinterpret_cast<const char*>(codes->bytes().data()), 8);
        const std::string type = both.substr(4);
        at += 8;
        FinderNote note{text_of(*name), both.substr(0, 4), {}};
        std::size_t size = 4;  // "long", "shor", "type"
        if (type == "bool") size = 1;
        if (type == "comp" || type == "dutc") size = 8;
        if (type == "blob" || type == "ustr") {
            const auto count = number(node, at);
            if (!count) return false;
            size = type == "ustr" ? std::size_t{*count} * 2 : *count;
            at += 4;
            if (const auto text = node.slice(at, size); text && type == "ustr") note.text = text_of(*text);
        }
        if (!lies_within(at, size, node.size())) return false;
        at += size;
        notes_.push_back(std::move(note));
        return true;
    }

    ByteView file_;
    std::vector<std::uint32_t> addresses_;
    std::vector<FinderNote> notes_;
    std::unordered_set<std::uint32_t> seen_;
};

}  // namespace

std::vector<FinderNote> read_finder_store(ByteView file) { return Store(file).read(); }

}  // namespace dredger
