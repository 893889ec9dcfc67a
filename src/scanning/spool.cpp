#include "scanning/spool.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <unistd.h>
#include <utility>

#include "base/file_io.h"

namespace dredger {
namespace {

constexpr std::size_t kAtOnce = 1 << 20;  // bytes written or read together

// Fields one behind the other; the file lives no longer than the program, so no version and no byte order.
class Packer {
  public:
    explicit Packer(std::string& into) : into_(into) {}
    template <class T>
    void number(T value) {
        static_assert(std::is_arithmetic_v<T> || std::is_enum_v<T>);
        into_.append(reinterpret_cast<const char*>(&value), sizeof value);
    }
    void text(const std::string& text) {
        number(static_cast<std::uint32_t>(text.size()));
        into_ += text;
    }
    void time(const std::optional<FileTime>& time) {
        number(time.has_value());
        if (!time) return;
        number(time->seconds);
        number(time->nanoseconds);
        number(time->clock);
    }
    template <class List, class One>
    void list(const List& all, const One& one) {
        number(static_cast<std::uint32_t>(all.size()));
        for (const auto& item : all) one(item);
    }

  private:
    std::string& into_;
};

class Unpacker {
  public:
    explicit Unpacker(std::string_view from) : from_(from) {}
    template <class T>
    T number() {
        T value{};
        std::memcpy(&value, from_.data(), sizeof value);
        from_.remove_prefix(sizeof value);
        return value;
    }
    std::string text() {
        const auto length = number<std::uint32_t>();
        std::string text(from_.substr(0, length));
        from_.remove_prefix(length);
        return text;
    }
    std::optional<FileTime> time() {
        if (!number<bool>()) return std::nullopt;
        FileTime time;
        time.seconds = number<std::int64_t>();
        time.nanoseconds = number<std::uint32_t>();
        time.clock = number<FileTime::Clock>();
        return time;
    }
    template <class One>
    void list(const One& one) {
        for (auto count = number<std::uint32_t>(); count > 0; --count) one();
    }

  private:
    std::string_view from_;
};

void pack(const Candidate& c, std::string& into) {
    Packer p(into);
    p.number(c.id);
    p.number(c.volume);
    const Record& r = c.record;
    p.number(r.id);
    p.text(r.folder);
    p.text(r.name);
    p.number(r.is_folder);
    p.number(r.state);
    p.number(r.origin);
    p.number(r.size);
    for (const auto* time : {&r.created, &r.modified, &r.accessed, &r.changed, &r.deleted}) p.time(*time);
    p.list(r.attributes, [&](const std::string& word) { p.text(word); });
    p.list(r.facts, [&](const Fact& fact) {
        p.text(fact.name);
        p.text(fact.value);
    });
    p.list(r.layout.extents, [&](const Extent& extent) {
        p.number(extent.offset);
        p.number(extent.length);
    });
    p.number(r.layout.codec);
    p.number(r.layout.unit);
    p.list(r.layout.packs, [&](const Pack& pack) {
        p.number(pack.codec);
        for (const std::uint64_t n : {pack.content, pack.skip, pack.unpacked}) p.number(n);
    });
    p.list(r.layout.sums, [&](std::uint32_t sum) { p.number(sum); });
    p.number(r.layout.sum_unit);
    p.number(r.layout.within_records);
    p.number(r.trust);
    p.number(r.name_is_whole);
    p.list(r.notes, [&](const std::string& note) { p.text(note); });
}

Candidate unpack(std::string_view from) {
    Unpacker u(from);
    Candidate c;
    c.id = u.number<std::int64_t>();
    c.volume = u.number<std::int64_t>();
    Record& r = c.record;
    r.id = u.number<std::uint64_t>();
    r.folder = u.text();
    r.name = u.text();
    r.is_folder = u.number<bool>();
    r.state = u.number<State>();
    r.origin = u.number<Origin>();
    r.size = u.number<std::uint64_t>();
    for (auto* time : {&r.created, &r.modified, &r.accessed, &r.changed, &r.deleted}) *time = u.time();
    u.list([&] { r.attributes.push_back(u.text()); });
    u.list([&] {
        std::string name = u.text();
        r.facts.push_back({std::move(name), u.text()});
    });
    u.list([&] {
        const auto offset = u.number<std::uint64_t>();
        r.layout.extents.push_back({offset, u.number<std::uint64_t>()});
    });
    r.layout.codec = u.number<Codec>();
    r.layout.unit = u.number<std::uint32_t>();
    u.list([&] {
        Pack& pack = r.layout.packs.emplace_back();
        pack.codec = u.number<Pack::Codec>();
        for (auto* n : {&pack.content, &pack.skip, &pack.unpacked}) *n = u.number<std::uint64_t>();
    });
    u.list([&] { r.layout.sums.push_back(u.number<std::uint32_t>()); });
    r.layout.sum_unit = u.number<std::uint32_t>();
    r.layout.within_records = u.number<bool>();
    r.trust = u.number<LayoutTrust>();
    r.name_is_whole = u.number<bool>();
    u.list([&] { r.notes.push_back(u.text()); });
    return c;
}

}  // namespace

Result<Spool> Spool::open(const std::filesystem::path& folder) {
    Spool spool;
    spool.where_ = folder.string();
    spool.descriptor_ = nameless_file(folder);
    if (spool.descriptor_ < 0)
        return fail(ErrorKind::output, fmt::format("no temporary file can be made here ({})", std::strerror(errno)),
                    spool.where_, "keep the catalog in a folder that is yours");
    return spool;
}

Spool::Spool(Spool&& other) noexcept { *this = std::move(other); }

Spool& Spool::operator=(Spool&& other) noexcept {
    std::swap(descriptor_, other.descriptor_);
    where_.swap(other.where_);
    unwritten_.swap(other.unwritten_);
    std::swap(written_, other.written_);
    ids_.swap(other.ids_);
    offsets_.swap(other.offsets_);
    std::swap(window_at_, other.window_at_);
    window_.swap(other.window_);
    return *this;
}

Spool::~Spool() {
    if (descriptor_ >= 0) ::close(descriptor_);
}

Result<void> Spool::add(const Candidate& candidate) {
    ids_.push_back(candidate.id);
    offsets_.push_back(written_ + unwritten_.size());
    pack(candidate, unwritten_);
    return unwritten_.size() < kAtOnce ? Result<void>() : flush();
}

Result<void> Spool::flush() {
    for (std::string_view left = unwritten_; !left.empty();) {
        const ssize_t n = ::pwrite(descriptor_, left.data(), left.size(), static_cast<off_t>(written_));
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0)
            return fail(ErrorKind::output,
                        fmt::format("the scan's temporary file can't be written ({})", std::strerror(errno)), where_,
                        "make room there, or keep the catalog elsewhere");
        left.remove_prefix(static_cast<std::size_t>(n));
        written_ += static_cast<std::uint64_t>(n);
    }
    unwritten_.clear();
    return {};
}

Result<void> Spool::load(std::uint64_t at, std::string& into) const {
    for (std::size_t done = 0; done < into.size();) {
        const ssize_t n = ::pread(descriptor_, into.data() + done, into.size() - done, static_cast<off_t>(at + done));
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0)
            return fail(ErrorKind::output, "the scan's temporary file can't be read again", where_, "check that drive");
        done += static_cast<std::size_t>(n);
    }
    return {};
}

std::uint64_t Spool::end_of(std::size_t index) const {
    return index + 1 < offsets_.size() ? offsets_[index + 1] : written_ + unwritten_.size();
}

Result<Candidate> Spool::read(std::size_t index) {
    DREDGER_CHECK(flush());
    const std::uint64_t at = offsets_.at(index);
    const std::uint64_t length = end_of(index) - at;
    if (at < window_at_ || at + length > window_at_ + window_.size()) {
        window_.resize(static_cast<std::size_t>(std::min(std::max<std::uint64_t>(kAtOnce, length), written_ - at)));
        window_at_ = at;
        DREDGER_CHECK(load(at, window_));
    }
    return unpack(
        std::string_view(window_).substr(static_cast<std::size_t>(at - window_at_), static_cast<std::size_t>(length)));
}

// Leaves the window where it is.
std::optional<Candidate> Spool::find(std::int64_t id) {
    const auto found = std::lower_bound(ids_.begin(), ids_.end(), id);
    if (found == ids_.end() || *found != id || !flush()) return std::nullopt;
    const auto index = static_cast<std::size_t>(found - ids_.begin());
    std::string bytes(static_cast<std::size_t>(end_of(index) - offsets_[index]), '\0');
    if (!load(offsets_[index], bytes)) return std::nullopt;
    return unpack(bytes);
}

}  // namespace dredger
