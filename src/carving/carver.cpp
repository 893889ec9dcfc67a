#include "carving/carver.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <condition_variable>
#include <deque>
#include <map>
#include <mutex>
#include <thread>

#include "base/aligned.h"
#include "media/loaded.h"

namespace dredger {
namespace {

constexpr std::uint64_t kSector = 512;
constexpr std::uint64_t kBlock = 1 << 20;    // bytes searched together: they stay in a core's cache
constexpr std::uint64_t kBehind = 64 << 10;  // bytes seen beyond them, for starts at their end
constexpr std::uint64_t kBefore = 16;        // bytes before them that are looked at
constexpr std::uint64_t kLookAhead = 8 * kSector;
constexpr std::uint64_t kExpected = 64 << 20;  // bytes ahead that the medium is asked to fetch meanwhile
constexpr unsigned kStandsAlone = 32;          // bits of evidence
constexpr std::size_t kBlocksAhead = 48;       // read or searched and not yet handed over: none waits for a long file
constexpr unsigned kReaders = 3;               // so that the medium always has something to do

// Formats whose parts are files of their own: what lies in a damaged one is worth listing.
bool holds_files(const Format& format) { return format.kind == Kind::archive; }

// How much of a find is its own beyond doubt. The last part of one without an end mark may be the start of what
// follows.
std::uint64_t certain_bytes(const Find& find) {
    if (find.measured.end == Measured::End::broken) return find.measured.sure;
    if (find.measured.end == Measured::End::open && !find.is_padded) return find.size / kSector * kSector;
    return find.size;
}

// Zeros behind an end that is none itself.
bool is_padded(const Medium& ground, const Extent& last_piece) {
    constexpr std::uint64_t kLastBytes = 8;
    const std::uint64_t end = last_piece.end();
    const std::uint64_t filled = std::min((end + kSector - 1) / kSector * kSector, ground.size());
    const std::uint64_t last = end - std::min(kLastBytes, last_piece.length);
    Reader bytes(ground, last);
    return !bytes.is_zeros(0, end - last) && (end == filled || bytes.is_zeros(end - last, filled - last));
}

// Taken while the content is at hand: files that are compared later need not be read again.
std::optional<Fingerprint> fingerprint_of(const Medium& content, std::uint64_t size) {
    constexpr std::uint64_t kLongest = 16 << 20;  // bytes
    constexpr std::size_t kPiece = 64 << 10;
    if (size > kLongest || size != content.size()) return std::nullopt;
    Fingerprinter print;
    std::array<std::byte, kPiece> piece;
    for (std::uint64_t at = 0; at < size; at += kPiece) {
        const auto part = std::span(piece).first(static_cast<std::size_t>(std::min<std::uint64_t>(kPiece, size - at)));
        std::vector<Extent> bad;
        if (!content.read(at, part, &bad) || !bad.empty()) return std::nullopt;
        print.add(part);
    }
    return print.finish();
}

// Whether the rest may lie elsewhere: it is broken, or ends where nothing says so.
bool could_go_on(const Medium& ground, const Measured& found, const Format& format, std::uint64_t start) {
    if (found.end == Measured::End::broken) return true;
    return found.end == Measured::End::open && !format.is_text && !is_padded(ground, {start, found.length});
}

}  // namespace

struct Carver::Block {
    std::uint64_t start = 0;   // on the ground
    std::uint64_t length = 0;  // bytes to search
    AlignedBytes bytes;
    std::uint64_t bytes_at = 0;  // where they begin
    bool is_sound = true;        // all of them could be read
    bool is_ready = false;       // what is seen beyond it is there, too
    std::vector<Find> finds;
    std::vector<std::uint64_t> starts;  // of the finds, on the ground
    std::vector<VolumeTrace> traces;
    std::uint64_t dropped = 0;
    std::optional<Error> failure;

    ByteView from(std::uint64_t at) const {
        return ByteView(std::span<const std::byte>(bytes).subspan(static_cast<std::size_t>(at - bytes_at)), at);
    }
    ByteView before(std::uint64_t at) const {
        const std::uint64_t there = std::min<std::uint64_t>(at - bytes_at, kBefore);
        return ByteView(std::span<const std::byte>(bytes).subspan(static_cast<std::size_t>(at - bytes_at - there),
                                                                  static_cast<std::size_t>(there)));
    }
};

// Blocks on their way from the reader through the workers to whoever settles them, in order.
struct Carver::Pipeline {
    std::mutex guard;
    std::condition_variable changed;
    std::deque<std::shared_ptr<Block>> to_search;
    std::map<std::uint64_t, std::shared_ptr<Block>> searched;  // by start
    std::map<std::uint64_t, std::shared_ptr<Block>> read;      // by their starts, until they are settled
    std::vector<AlignedBytes> spare;                           // rooms of blocks that are settled, to be filled again
    std::size_t under_way = 0;
    bool all_read = false;
    bool stop = false;
    std::vector<std::thread> threads;

    // A block can be searched when the one behind it is read: what is seen beyond its end is copied from there.
    void make_ready(std::uint64_t at, std::uint64_t size) {
        const auto found = read.find(at), behind = read.find(at + kBlock);
        const bool is_last = at + kBlock >= size;
        if (found == read.end() || found->second->is_ready || (behind == read.end() && !is_last)) return;
        Block& block = *found->second;
        if (!is_last) {
            const Block& next = *behind->second;
            const auto from = next.bytes.begin() + static_cast<std::ptrdiff_t>(next.start - next.bytes_at);
            block.bytes.insert(block.bytes.end(), from,
                               from + static_cast<std::ptrdiff_t>(std::min(kBehind, next.length)));
            block.is_sound = block.is_sound && next.is_sound && !next.failure;
        }
        block.is_ready = true;
        to_search.push_back(found->second);
    }

    ~Pipeline() {
        {
            const std::lock_guard lock(guard);
            stop = true;
        }
        changed.notify_all();
        for (std::thread& thread : threads) thread.join();
    }
};

Carver::Carver(std::shared_ptr<const Content> ground, CarveOptions options, Coverage known)
    : ground_(std::move(ground)),
      options_(std::move(options)),
      nominator_(options_.wanted, options_.further),
      known_(std::move(known)) {}
Carver::~Carver() = default;

std::optional<Find> Carver::examine(const MediumPtr& ground, std::uint64_t start, const std::vector<Bid>& bids) const {
    for (const Bid& bid : bids) {
        Reader reader(*ground, start);
        Find find;
        find.measured = bid.format->measure(reader);
        if (!find.measured.is_file()) continue;
        find.bits = bid.bits;
        std::vector<Extent> on_ground = {{start, find.measured.length}};
        if (could_go_on(*ground, find.measured, *bid.format, start)) {
            JoinLimits limits;
            if (options_.cluster != 0) limits.cluster = options_.cluster;
            if (auto joined = join(*ground_, start, *bid.format, find.measured, limits)) {
                find.measured = joined->measured;
                on_ground = joined->pieces;
            }
        }
        if (find.measured.end == Measured::End::broken && find.measured.proof == Proof::none) continue;
        find.format = find.measured.format.empty() ? bid.format : format_named(find.measured.format);
        if (find.format == nullptr) find.format = bid.format;
        if (!is_wanted(*find.format)) return std::nullopt;
        find.size = find.measured.length;
        const auto content = std::make_shared<Content>(ground, on_ground);
        if (bid.format->describe != nullptr) {
            Reader again(*content);
            find.said = bid.format->describe(again, find.size);
        }
        for (const Extent& piece : on_ground)
            for (const Extent& place : ground_->places_of(piece.offset, piece.length)) find.pieces.push_back(place);
        find.is_padded = is_padded(*ground, on_ground.back());
        find.fingerprint = fingerprint_of(*content, find.size);
        return find;
    }
    return std::nullopt;
}

bool Carver::is_wanted(const Format& format) const {
    const auto& further = options_.further;
    return options_.wanted.takes(format) || std::find(further.begin(), further.end(), &format) != further.end();
}

bool Carver::keeps_its_bytes(const Find& find) const {
    if (options_.inside) return false;
    return find.measured.end != Measured::End::broken || !holds_files(*find.format);
}

void Carver::search(Block& block, std::uint64_t from, std::uint64_t to) const {
    const MediumPtr ground =
        block.is_sound ? MediumPtr(std::make_shared<Loaded>(ground_, block.bytes_at, block.bytes)) : MediumPtr(ground_);
    std::vector<Bid> bids;
    const std::uint64_t step = options_.every_offset ? 1 : kSector;
    for (std::uint64_t at = from; at < to;) {
        const ByteView head = block.from(at);
        if (at + kLookAhead < to) nominator_.expect(block.from(at + kLookAhead));
        nominator_.nominate(ByteView(head.bytes().first(std::min(head.size(), nominator_.reach()))), block.before(at),
                            bids);
        std::uint64_t next = at + step;
        if (!bids.empty()) {
            if (auto find = examine(ground, at, bids)) {
                // Within a file in one piece nothing begins.
                if (keeps_its_bytes(*find) && find->pieces.size() == 1)
                    next = std::max(next, options_.every_offset
                                              ? at + find->size
                                              : at + (certain_bytes(*find) + kSector - 1) / kSector * kSector);
                block.starts.push_back(at);
                block.finds.push_back(std::move(*find));
            } else {
                ++block.dropped;
            }
        }
        at = next;
    }
}

void Carver::search(Block& block) const {
    look_for_volumes(block);
    search(block, block.start, block.start + block.length);
}

void Carver::look_for_volumes(Block& block) const {
    if (options_.tracers.empty()) return;
    auto rest = std::span<const std::byte>(block.bytes).subspan(static_cast<std::size_t>(block.start - block.bytes_at));
    for (const Extent& place : ground_->places_of(block.start, block.length)) {
        const auto there = rest.first(static_cast<std::size_t>(place.length));
        if (place.is_stored()) look_for_traces(*options_.medium, options_.tracers, place.offset, there, block.traces);
        rest = rest.subspan(there.size());
    }
}

// What a find lies within, or null. A whole file that shows clearly what it is does not belong to a broken one around
// it.
const Coverage* Carver::covering(const Find& find, std::uint64_t start) const {
    const auto place = ground_->places_of(start, 1);
    if (place.empty()) return nullptr;
    if (known_.covers(place.front().offset)) return &known_;
    if (taken_.covers(place.front().offset)) return &taken_;
    const bool stands_alone =
        find.measured.is_whole() && find.bits >= kStandsAlone && find.measured.proof >= Proof::structure;
    return !stands_alone && doubtful_.covers(place.front().offset) ? &doubtful_ : nullptr;
}

// In the order of their places: what lies within an earlier find is no file of its own.
Result<void> Carver::settle(Block& block, FindSink& sink) {
    dropped_ += block.dropped;
    for (VolumeTrace& trace : block.traces) sink.take(std::move(trace));
    for (std::size_t i = 0; i < block.finds.size(); ++i) {
        Find& find = block.finds[i];
        const std::uint64_t start = block.starts[i];
        if (const Coverage* around = covering(find, start)) {
            // It hid what it reaches over and is not taken.
            const std::uint64_t place = ground_->places_of(start, 1).front().offset;
            const std::uint64_t skipped = std::min(start + certain_bytes(find), block.start + block.length);
            std::uint64_t resume = start + (around->end_at(place) - place);
            resume = (resume + kSector - 1) / kSector * kSector;
            if (keeps_its_bytes(find) && find.pieces.size() == 1 && resume < skipped) {
                Block rest{block.start,
                           block.length,
                           std::move(block.bytes),
                           block.bytes_at,
                           block.is_sound,
                           true,
                           {},
                           {},
                           {},
                           0,
                           {}};
                search(rest, resume, skipped);
                block.bytes = std::move(rest.bytes);
                block.finds.insert(block.finds.begin() + static_cast<std::ptrdiff_t>(i) + 1,
                                   std::make_move_iterator(rest.finds.begin()),
                                   std::make_move_iterator(rest.finds.end()));
                block.starts.insert(block.starts.begin() + static_cast<std::ptrdiff_t>(i) + 1, rest.starts.begin(),
                                    rest.starts.end());
                dropped_ += rest.dropped;
            }
            continue;
        }
        if (keeps_its_bytes(find)) {
            std::uint64_t left = certain_bytes(find);
            for (const Extent& piece : find.pieces) {
                (find.measured.end == Measured::End::broken ? doubtful_ : taken_)
                    .add({piece.offset, std::min(left, piece.length)});
                left -= std::min(left, piece.length);
            }
        }
        DREDGER_CHECK(sink.take(std::move(find)));
    }
    return {};
}

Result<void> Carver::sweep(const SweepState& state, FindSink& sink) {
    const std::uint64_t size = ground_->size();
    for (const Extent& extent : state.taken) taken_.add(extent);
    for (const Extent& extent : state.doubtful) doubtful_.add(extent);
    dropped_ = state.dropped;
    Pipeline line;
    std::uint64_t next = state.position, expected = state.position;  // of the ground; guarded
    unsigned reading = kReaders;
    const auto read_blocks = [&] {
        for (;;) {
            auto block = std::make_shared<Block>();
            std::optional<Extent> ahead;
            {
                std::unique_lock lock(line.guard);
                line.changed.wait(lock, [&] { return line.stop || next >= size || line.under_way < kBlocksAhead; });
                if (line.stop || next >= size) break;
                ++line.under_way;
                block->start = std::exchange(next, next + kBlock);
                if (!line.spare.empty()) {
                    block->bytes = std::move(line.spare.back());
                    line.spare.pop_back();
                }
                if (const std::uint64_t end = std::min(block->start + kExpected, size); end > expected)
                    ahead = Extent{expected, end - std::exchange(expected, end)};
            }
            if (ahead) ground_->expect(ahead->offset, ahead->length);
            const std::uint64_t at = block->start;
            block->length = std::min(kBlock, size - at);
            block->bytes_at = at - std::min(at, kSector);
            block->bytes.reserve(static_cast<std::size_t>(kSector + kBlock + kBehind));
            block->bytes.resize(static_cast<std::size_t>(at + block->length - block->bytes_at));
            std::vector<Extent> bad;  // what can't be read comes as zeros, in which nothing begins
            if (const auto read = ground_->read(block->bytes_at, block->bytes, &bad); !read)
                block->failure = read.error();
            block->is_sound = bad.empty();
            const std::lock_guard lock(line.guard);
            if (!bad.empty()) expected = size;  // a failing medium is not asked for more than what is read
            line.read[at] = std::move(block);
            line.make_ready(at, size);
            if (at >= kBlock) line.make_ready(at - kBlock, size);
            line.changed.notify_all();
        }
        const std::lock_guard lock(line.guard);
        line.all_read = --reading == 0;
        line.changed.notify_all();
    };
    for (unsigned n = 0; n < kReaders; ++n) line.threads.emplace_back(read_blocks);
    const unsigned workers =
        options_.workers != 0 ? options_.workers : std::max(1U, std::thread::hardware_concurrency());
    for (unsigned i = 0; i < workers; ++i)
        line.threads.emplace_back([&] {
            for (;;) {
                std::shared_ptr<Block> block;
                {
                    std::unique_lock lock(line.guard);
                    line.changed.wait(lock, [&] { return line.stop || !line.to_search.empty() || line.all_read; });
                    if (line.stop || line.to_search.empty()) return;
                    block = line.to_search.front();
                    line.to_search.pop_front();
                }
                if (!block->failure) search(*block);
                const std::lock_guard lock(line.guard);
                line.searched.emplace(block->start, block);
                line.changed.notify_all();
            }
        });
    for (std::uint64_t at = state.position; at < size; at += kBlock) {
        std::shared_ptr<Block> block;
        {
            std::unique_lock lock(line.guard);
            line.changed.wait(lock, [&] { return line.searched.contains(at); });
            block = line.searched[at];
            line.searched.erase(at);
        }
        if (block->failure) return tl::unexpected<Error>(*block->failure);
        DREDGER_CHECK(settle(*block, sink));
        {
            const std::lock_guard lock(line.guard);
            --line.under_way;
            line.read.erase(at);
            line.spare.push_back(std::move(block->bytes));
            line.changed.notify_all();
        }
        const std::uint64_t done = at + block->length;
        if (const auto place = ground_->places_of(done, 1); !place.empty()) taken_.forget_before(place.front().offset);
        DREDGER_TRY(const bool go_on, sink.reached({done, taken_.extents(), doubtful_.extents(), dropped_}));
        if (!go_on) return {};
    }
    return {};
}

}  // namespace dredger
