#include "stores/pst/database.h"

#include <algorithm>
#include <array>
#include <set>
#include <zlib.h>

#include "media/content.h"
#include "media/window.h"
#include "stores/pst/encoding.h"

namespace dredger::stores::pst {
namespace {

constexpr std::size_t kStretch = 4 << 20;        // bytes that are searched together
constexpr std::size_t kLongestBlock = 66 << 10;  // bytes with its trailer
constexpr unsigned kMaxTreeDepth = 8;
constexpr std::uint32_t kMaxUnpacked = 1 << 20;

std::uint64_t number_at(ByteView bytes, std::size_t at, std::size_t width) {
    return width == 4 ? bytes.u32le(at).value_or(0) : bytes.u64le(at).value_or(0);
}

// What is left of a store whose header is lost.
struct Fragment {
    Form form;
    std::int64_t begins;  // byte of the store that its first one was
};

// Pages are known by their sums, wherever they lie; where they lay once those above them tell.
class FragmentFinder {
  public:
    explicit FragmentFinder(const Medium& file) : file_(file) {}

    std::optional<Fragment> find() {
        for (std::uint64_t at = 0; at < file_.size(); at += kStretch) {
            // A page that lies across the border of two stretches is met in the first.
            const std::uint64_t end = std::min<std::uint64_t>(file_.size(), at + kStretch + kLongestPage);
            std::vector<std::byte> bytes(static_cast<std::size_t>(end - at));
            std::vector<Extent> bad;
            if (!file_.read(at, bytes, &bad)) continue;
            for (const Form form : {Form::unicode_4k, Form::unicode, Form::ansi})
                look_for_pages(form, ByteView(bytes, at));
        }
        const auto form = std::max_element(pages_.begin(), pages_.end(), [](const auto& a, const auto& b) {
            return a.second.size() < b.second.size();
        });
        if (form == pages_.end()) return std::nullopt;
        return Fragment{form->first, begin_of(form->second, votes_[form->first])};
    }

  private:
    using Places = std::map<std::uint64_t, std::uint64_t>;  // of pages, by their ids
    using Votes = std::vector<Bref>;                        // what pages above others tell

    void look_for_pages(Form form, ByteView bytes) {
        const Geometry& geometry = geometry_of(form);
        for (std::size_t at = 0; at < std::min<std::size_t>(bytes.size(), kStretch); at += kStep) {
            const auto view = bytes.slice(at, geometry.page);
            const auto page = view ? tree_page(geometry, *view, std::nullopt) : std::nullopt;
            if (!page) continue;
            pages_[form].emplace(page->bid, bytes.origin() + at);
            votes_[form].insert(votes_[form].end(), page->children.begin(), page->children.end());
        }
    }

    static std::int64_t begin_of(const Places& places, const Votes& votes) {
        std::map<std::int64_t, std::size_t> counted;
        for (const Bref& told : votes)
            if (const auto found = places.find(told.bid); found != places.end())
                ++counted[static_cast<std::int64_t>(told.ib) - static_cast<std::int64_t>(found->second)];
        const auto most = std::max_element(counted.begin(), counted.end(),
                                           [](const auto& a, const auto& b) { return a.second < b.second; });
        return most == counted.end() ? 0 : most->first;
    }

    static constexpr std::size_t kLongestPage = 4096, kStep = 64;

    const Medium& file_;
    std::map<Form, Places> pages_;
    std::map<Form, Votes> votes_;
};

// The fragment where it lay in the store.
MediumPtr in_its_place(const MediumPtr& file, std::int64_t begins) {
    if (begins == 0) return file;
    if (begins > 0)
        return std::make_shared<Content>(
            file, std::vector<Extent>{Extent::unknown(static_cast<std::uint64_t>(begins)), {0, file->size()}});
    const auto skip = std::min(static_cast<std::uint64_t>(-begins), file->size());
    return std::make_shared<Window>(file, skip, file->size() - skip);
}

}  // namespace

Result<std::unique_ptr<Database>> Database::open(MediumPtr file, bool is_told) {
    const auto start = file->size() >= 1024 ? file->bytes(0, 1024) : Result<std::vector<std::byte>>();
    const ByteView header = start ? ByteView(*start) : ByteView();
    const auto head = header.as<HeaderStart>(0);
    const bool has_header = head && header.has(0, "!BDN");
    std::optional<Form> form;
    if (has_header)
        form = head->wVer >= kUnicode4K ? Form::unicode_4k : head->wVer >= kFirstUnicode ? Form::unicode : Form::ansi;
    if (!has_header && is_told) {
        if (const auto fragment = FragmentFinder(*file).find()) {
            form = fragment->form;
            file = in_its_place(file, fragment->begins);
        }
    }
    if (!form) return nullptr;
    std::unique_ptr<Database> database(new Database(std::move(file), geometry_of(*form)));
    const Geometry& geometry = database->geometry_;
    if (has_header) {
        database->is_offline_ = header.has(8, "SO");
        database->crypt_ = header.u8(geometry.header_crypt).value_or(0);
        const auto root = [&](std::uint64_t at) {
            return Bref{number_at(header, static_cast<std::size_t>(at), geometry.id),
                        number_at(header, static_cast<std::size_t>(at) + geometry.id, geometry.id)};
        };
        const bool has_blocks = database->read_tree(root(geometry.header_bbt), ptypeBBT);
        const bool has_nodes = database->read_tree(root(geometry.header_nbt), ptypeNBT);
        database->is_whole_ = has_blocks && has_nodes;
        if (!has_blocks)
            database->warnings_.emplace_back("the table of its blocks is damaged: they are found by themselves");
        if (!has_nodes)
            database->warnings_.emplace_back("the table of its nodes is damaged: what is left of it is read");
    } else {
        database->is_whole_ = false;
        database->warnings_.emplace_back("its header is lost: it is read by its pages");
    }
    if (!database->is_whole_) {
        database->search_remains({});
        if (!has_header || database->crypt_ > NDB_CRYPT_CYCLIC) database->guess_crypt_method();
        database->rebuild_nodes();
    }
    return database;
}

std::optional<TreePage> Database::page_at(std::uint64_t ib) const {
    if (!lies_within(ib, geometry_.page, file_->size())) return std::nullopt;
    const auto bytes = file_->bytes(ib, geometry_.page);
    return bytes ? tree_page(geometry_, ByteView(*bytes, ib), ib) : std::nullopt;
}

// Each page once: there can't be more of them than the file has room for.
bool Database::read_tree(const Bref& root, std::uint8_t kind) {
    bool whole = true;
    std::vector<std::uint64_t> left = {root.ib};
    std::set<std::uint64_t> seen;
    while (!left.empty()) {
        const std::uint64_t ib = left.back();
        left.pop_back();
        if (!seen.insert(ib).second) continue;
        auto page = page_at(ib);
        if (!page || page->ptype != kind) {
            whole = false;
            continue;
        }
        for (auto child = page->children.rbegin(); child != page->children.rend(); ++child) left.push_back(child->ib);
        blocks_.insert(blocks_.end(), page->blocks.begin(), page->blocks.end());
        nodes_.insert(nodes_.end(), page->nodes.begin(), page->nodes.end());
    }
    std::stable_sort(blocks_.begin(), blocks_.end(), [](const auto& a, const auto& b) { return a.bid < b.bid; });
    std::stable_sort(nodes_.begin(), nodes_.end(), [](const Node& a, const Node& b) { return a.nid < b.nid; });
    return whole;
}

const Node* Database::find(std::uint32_t nid) const {
    const auto found = std::lower_bound(nodes_.begin(), nodes_.end(), nid,
                                        [](const Node& node, std::uint32_t id) { return node.nid < id; });
    return found != nodes_.end() && found->nid == nid ? &*found : nullptr;
}

std::optional<BlockPlace> Database::place_of(std::uint64_t bid) const {
    for (const std::vector<BlockPlace>* list : {&blocks_, const_cast<const std::vector<BlockPlace>*>(&found_blocks_)}) {
        const auto found = std::lower_bound(list->begin(), list->end(), bid,
                                            [](const BlockPlace& place, std::uint64_t id) { return place.bid < id; });
        if (found != list->end() && found->bid == bid) return *found;
    }
    return std::nullopt;
}

std::optional<std::vector<std::byte>> Database::block_at(const BlockPlace& place) const {
    const std::uint64_t space = space_of(geometry_, place.cb);
    if (place.cb == 0 || space > kLongestBlock || !lies_within(place.ib, space, file_->size())) return std::nullopt;
    auto bytes = file_->bytes(place.ib, static_cast<std::size_t>(space));
    if (!bytes) return std::nullopt;
    const BlockTrailer trailer = block_trailer(geometry_, ByteView(std::span(*bytes).last(geometry_.block_trailer)));
    bytes->resize(place.cb);
    if (trailer.cb != place.cb || (trailer.bid & ~std::uint64_t{1}) != place.bid ||
        trailer.dwCRC != compute_crc(*bytes))
        return std::nullopt;
    if (geometry_.form == Form::unicode_4k && place.unpacked != 0 && place.unpacked != place.cb) {
        if (place.unpacked > kMaxUnpacked) return std::nullopt;
        std::vector<std::byte> unpacked(place.unpacked);
        uLongf length = place.unpacked;
        if (uncompress(reinterpret_cast<Bytef*>(unpacked.data()), &length,
                       reinterpret_cast<const Bytef*>(bytes->data()), place.cb) != Z_OK ||
            length != place.unpacked)
            return std::nullopt;
        *bytes = std::move(unpacked);
    }
    if (!is_internal(place.bid)) decode(*bytes, crypt_, place.bid);
    return std::move(*bytes);
}

std::optional<std::vector<std::byte>> Database::block(std::uint64_t bid) const {
    const auto place = place_of(bid);
    if (!place) return std::nullopt;
    auto bytes = block_at(*place);
    if (bytes) return bytes;
    // What the B-tree tells may be out of date where another copy stands.
    const auto found = std::lower_bound(found_blocks_.begin(), found_blocks_.end(), bid,
                                        [](const BlockPlace& one, std::uint64_t id) { return one.bid < id; });
    if (found == found_blocks_.end() || found->bid != bid || found->ib == place->ib) return std::nullopt;
    return block_at(*found);
}

std::optional<std::uint32_t> Database::size_of(std::uint64_t bid) const {
    const auto place = place_of(bid);
    return place ? std::optional(place->unpacked != 0 ? place->unpacked : place->cb) : std::nullopt;
}

void Database::search_remains(const GoOn& go_on) const {
    if (is_searched_) return;
    is_searched_ = true;
    const std::uint64_t size = file_->size();
    std::vector<std::byte> buffer;
    for (std::uint64_t at = 0; at < size; at += kStretch) {
        if (go_on && !go_on(at, size)) break;
        // Blocks that end in this stretch may begin before it.
        const std::uint64_t base = at > kLongestBlock ? (at - kLongestBlock) / 512 * 512 : 0;
        const std::uint64_t end = std::min<std::uint64_t>(size, at + kStretch);
        buffer.resize(static_cast<std::size_t>(end - base));
        std::vector<Extent> bad;
        if (!file_->read(base, buffer, &bad)) continue;
        const ByteView view(buffer, base);
        look_at(view, at);
    }
    sort_remains();
}

void Database::look_at(ByteView stretch, std::uint64_t from) const {
    const std::uint64_t base = stretch.origin(), end = base + stretch.size();
    for (std::uint64_t at = divide_up(from, geometry_.block_align) * geometry_.block_align + geometry_.block_align;
         at <= end; at += geometry_.block_align) {
        if (at % 512 == 0 && at >= base + geometry_.page)
            if (const auto page = stretch.slice(static_cast<std::size_t>(at - geometry_.page - base), geometry_.page))
                look_for_page(*page, at - geometry_.page);
        look_for_block(stretch, base, at);
    }
}

void Database::look_for_page(ByteView bytes, std::uint64_t ib) const {
    auto page = tree_page(geometry_, bytes, ib);
    if (!page) return;
    found_nodes_.insert(found_nodes_.end(), page->nodes.begin(), page->nodes.end());
}

void Database::look_for_block(ByteView stretch, std::uint64_t base, std::uint64_t end) const {
    const std::size_t behind = static_cast<std::size_t>(end - base);
    if (behind < geometry_.block_trailer) return;
    const auto bytes = stretch.slice(behind - geometry_.block_trailer, geometry_.block_trailer);
    if (!bytes) return;
    const BlockTrailer trailer = block_trailer(geometry_, *bytes);
    if (trailer.cb == 0 || trailer.bid == 0) return;
    const std::uint64_t space = space_of(geometry_, trailer.cb);
    if (space > behind) return;
    const std::uint64_t ib = end - space;
    if (trailer.wSig != compute_sig(ib, trailer.bid)) return;
    const auto data = stretch.slice(static_cast<std::size_t>(ib - base), trailer.cb);
    if (!data || compute_crc(data->bytes()) != trailer.dwCRC) return;
    found_blocks_.push_back({trailer.bid & ~std::uint64_t{1}, ib, trailer.cb, trailer.unpacked});
}

void Database::sort_remains() const {
    std::stable_sort(found_blocks_.begin(), found_blocks_.end(),
                     [](const BlockPlace& a, const BlockPlace& b) { return a.bid < b.bid; });
    // The newest first of each node.
    std::stable_sort(found_nodes_.begin(), found_nodes_.end(),
                     [](const Node& a, const Node& b) { return a.nid != b.nid ? a.nid < b.nid : a.age > b.age; });
    std::set<std::uint64_t> told;
    const auto add_told = [&](const Node& node) {
        told.insert(node.bidData);
        told.insert(node.bidSub);
        if (!is_internal(node.bidData)) return;
        const DataTree tree = data_tree(node.bidData);
        if (!tree.pieces.empty()) told.insert(tree.pieces.front().bid);
    };
    for (const Node& node : nodes_) add_told(node);
    for (const Node& node : found_nodes_) {
        const bool is_known = !former_.empty() && former_.back().nid == node.nid;
        add_told(node);
        if (!is_known && find(node.nid) == nullptr && place_of(node.bidData)) former_.push_back(node);
    }
    std::uint64_t before = 0;
    for (const BlockPlace& place : found_blocks_) {
        if (std::exchange(before, place.bid) == place.bid || told.contains(place.bid)) continue;
        const auto bytes = block_at(place);
        const ByteView view = bytes ? ByteView(*bytes) : ByteView();
        if (is_internal(place.bid)) {
            if (view.u8(0) == kSubnodes && view.u8(1) == 0) loose_subnodes_.push_back(place.bid);
        } else if (view.u8(2) == kHeapSignature && view.u8(3) == bTypePC) {
            loose_.push_back(place.bid);
        }
    }
}

// Where the header is lost, so is the method: that which makes heaps of most blocks is the right one.
void Database::guess_crypt_method() {
    std::array<std::uint64_t, 3> heaps{};
    for (const BlockPlace& place : found_blocks_) {
        if (is_internal(place.bid) || place.unpacked != place.cb || place.cb < sizeof(HNHDR)) continue;
        const auto start = file_->bytes(place.ib, sizeof(HNHDR));
        if (!start) continue;
        for (std::uint8_t method = 0; method < heaps.size(); ++method) {
            auto tried = *start;
            decode(tried, method, place.bid);
            const ByteView view(tried);
            heaps[method] += view.u8(2) == kHeapSignature && (view.u8(3) == bTypePC || view.u8(3) == bTypeTC) ? 1 : 0;
        }
    }
    crypt_ = static_cast<std::uint8_t>(std::max_element(heaps.begin(), heaps.end()) - heaps.begin());
}

// What the B-tree doesn't reach any more was live, as far as anybody can tell.
void Database::rebuild_nodes() {
    std::vector<Node> all = nodes_;
    for (const Node& node : former_) all.push_back(node);
    std::stable_sort(all.begin(), all.end(), [](const Node& a, const Node& b) { return a.nid < b.nid; });
    nodes_ = std::move(all);
    former_.clear();
    loose_.clear();
    loose_subnodes_.clear();
    sort_remains();
}

void Database::add_pieces(std::uint64_t bid, unsigned depth, DataTree& tree) const {
    if (!is_internal(bid)) {
        const auto size = size_of(bid);
        if (!size) tree.is_whole = false;
        if (size) tree.pieces.push_back({tree.total, bid, *size});
        tree.total += size.value_or(0);
        return;
    }
    const auto bytes = depth > 0 ? block(bid) : std::nullopt;
    const ByteView view = bytes ? ByteView(*bytes) : ByteView();
    const auto count = view.u16le(2);
    if (!count || view.u8(0) != kDataTree) {
        tree.is_whole = false;
        return;
    }
    const std::uint64_t start = tree.total, promised = view.u32le(4).value_or(0);
    for (std::size_t n = 0; n < *count; ++n) {
        const std::size_t at = 8 + n * geometry_.id;
        if (at + geometry_.id > view.size()) break;
        const std::uint64_t child = number_at(view, at, geometry_.id) & ~std::uint64_t{1};
        const std::uint64_t before = tree.total;
        add_pieces(child, depth - 1, tree);
        const std::uint64_t done = before - start;
        if (tree.total == before) add_lost(child, promised > done ? promised - done : 0, tree);
    }
}

// Blocks that stand nowhere are as long as all but the last are. They keep their places, so that what follows has its
// own.
void Database::add_lost(std::uint64_t bid, std::uint64_t most, DataTree& tree) const {
    constexpr std::uint64_t kUsual = 8176;  // bytes of data in a block (2.2.2.8.1)
    const std::uint64_t unit = tree.pieces.empty() ? kUsual : tree.pieces.front().length;
    const std::uint64_t blocks = is_internal(bid) ? (kUsual - 8) / geometry_.id : 1;
    for (std::uint64_t n = 0; n < blocks && most > 0; ++n) {
        const std::uint64_t length = std::min(unit, most);
        tree.pieces.push_back({tree.total, 0, length});
        tree.total += length;
        most -= length;
    }
}

Database::DataTree Database::data_tree(std::uint64_t bid) const {
    DataTree tree;
    if (bid != 0) add_pieces(bid, 3, tree);
    return tree;
}

namespace {

// A node's data, block by block.
class NodeData final : public Medium {
  public:
    NodeData(const Database& database, Database::DataTree tree) : database_(database), tree_(std::move(tree)) {}

    std::uint64_t size() const override { return tree_.total; }
    std::uint32_t sector_size() const override { return 1; }
    std::string name() const override { return "node"; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        std::fill(into.begin(), into.end(), std::byte{0});
        const std::uint64_t end = offset + into.size();
        std::uint64_t done = offset;
        auto piece = std::upper_bound(tree_.pieces.begin(), tree_.pieces.end(), offset,
                                      [](std::uint64_t at, const auto& p) { return at < p.start; });
        if (piece != tree_.pieces.begin()) --piece;
        for (; piece != tree_.pieces.end() && piece->start < end; ++piece) {
            const std::uint64_t from = std::max(piece->start, done), to = std::min(piece->start + piece->length, end);
            if (from >= to) continue;
            if (from > done) bad.push_back({done, from - done});
            const auto bytes = database_.block(piece->bid);
            if (bytes && bytes->size() >= to - piece->start)
                std::copy_n(bytes->begin() + static_cast<std::ptrdiff_t>(from - piece->start), to - from,
                            into.begin() + static_cast<std::ptrdiff_t>(from - offset));
            else
                bad.push_back({from, to - from});
            done = to;
        }
        if (done < end) bad.push_back({done, end - done});
        return {};
    }

  private:
    const Database& database_;
    Database::DataTree tree_;
};

}  // namespace

MediumPtr Database::open_data(DataTree tree) const { return std::make_shared<NodeData>(*this, std::move(tree)); }

std::map<std::uint32_t, Node> Database::subnodes(std::uint64_t bid, bool& whole) const {
    std::map<std::uint32_t, Node> found;
    if (bid == 0) return found;
    std::vector<std::pair<std::uint64_t, unsigned>> left = {{bid, 2}};
    while (!left.empty()) {
        const auto [one, depth] = left.back();
        left.pop_back();
        const auto bytes = depth > 0 ? block(one) : std::nullopt;
        const ByteView view = bytes ? ByteView(*bytes) : ByteView();
        const auto count = view.u16le(2);
        if (!count || view.u8(0) != kSubnodes) {
            whole = false;
            continue;
        }
        const bool is_leaf = view.u8(1) == 0;
        const std::size_t id = geometry_.id, entry = is_leaf ? 3 * id : 2 * id, start = id == 4 ? 4 : 8;
        for (std::size_t n = 0; n < *count; ++n) {
            const std::size_t at = start + n * entry;
            if (at + entry > view.size()) {
                whole = false;
                break;
            }
            const std::uint64_t first = number_at(view, at, id), second = number_at(view, at + id, id);
            if (!is_leaf) {
                left.emplace_back(second & ~std::uint64_t{1}, depth - 1);
                continue;
            }
            Node node;
            node.nid = static_cast<std::uint32_t>(first);
            node.bidData = second & ~std::uint64_t{1};
            node.bidSub = number_at(view, at + 2 * id, id) & ~std::uint64_t{1};
            found.emplace(node.nid, node);
        }
    }
    return found;
}

}  // namespace dredger::stores::pst
