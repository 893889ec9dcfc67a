#include "scanning/spool.h"

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fmt/format.h>
#include <unistd.h>
#include <utility>

#include "base/file_io.h"
#include "catalog/fields.h"

namespace dredger {
namespace {

constexpr std::size_t kAtOnce = 1 << 20;  // bytes written or read together

// Fields one behind the other; the file lives no longer than the program, so no version and no byte order. What there
// is of them follows from the fields' types.
class Packer {
  public:
    explicit Packer(std::string& into) : into_(into) {}
    template <class T>
    requires std::is_arithmetic_v<T> || std::is_enum_v<T>
    void add(const T& value) { into_.append(reinterpret_cast<const char*>(&value), sizeof value); }
    void add(const std::string& text) {
        add(static_cast<std::uint32_t>(text.size()));
        into_ += text;
    }
    void add(const Fact& fact) {
        add(fact.name);
        add(fact.value);
    }
    void add(const FileTime& time) {
        add(time.seconds);
        add(time.nanoseconds);
        add(time.clock);
    }
    void add(const Extent& extent) {
        add(extent.offset);
        add(extent.length);
        add(extent.held);
    }
    void add(const LayoutExtent& extent) {
        add(static_cast<const Extent&>(extent));
        add(extent.pack.method);
        for (const std::uint32_t n : {extent.pack.skip, extent.pack.unpacked, extent.pack.content}) add(n);
    }
    template <class T>
    void add(const std::optional<T>& value) {
        add(value.has_value());
        if (value) add(*value);
    }
    template <class T>
    void add(const std::vector<T>& list) {
        add(static_cast<std::uint32_t>(list.size()));
        for (const T& one : list) add(one);
    }

  private:
    std::string& into_;
};

class Unpacker {
  public:
    explicit Unpacker(std::string_view from) : from_(from) {}
    template <class T>
    requires std::is_arithmetic_v<T> || std::is_enum_v<T>
    void take(T& value) {
        std::memcpy(&value, from_.data(), sizeof value);
        from_.remove_prefix(sizeof value);
    }
    void take(std::string& text) {
        std::uint32_t length = 0;
        take(length);
        text = from_.substr(0, length);
        from_.remove_prefix(length);
    }
    void take(Fact& fact) {
        take(fact.name);
        take(fact.value);
    }
    void take(FileTime& time) {
        take(time.seconds);
        take(time.nanoseconds);
        take(time.clock);
    }
    void take(Extent& extent) {
        take(extent.offset);
        take(extent.length);
        take(extent.held);
    }
    void take(LayoutExtent& extent) {
        take(static_cast<Extent&>(extent));
        take(extent.pack.method);
        for (std::uint32_t* n : {&extent.pack.skip, &extent.pack.unpacked, &extent.pack.content}) take(*n);
    }
    template <class T>
    void take(std::optional<T>& value) {
        bool is_there = false;
        take(is_there);
        if (is_there) take(value.emplace());
    }
    template <class T>
    void take(std::vector<T>& list) {
        std::uint32_t count = 0;
        take(count);
        list.resize(count);
        for (T& one : list) take(one);
    }

  private:
    std::string_view from_;
};

// Everything that a record has, in one order for both ways.
template <class AnyRecord, class Visit>
void each_part(AnyRecord& record, const Visit& visit) {
    fields::each_of_entry(record, [&](const char*, auto& value) { visit(value); });
    fields::each_of_layout(record.layout, [&](const char*, auto& value) { visit(value); });
    visit(record.notes);
    visit(record.layout.extents);
    visit(record.layout.sums);
    visit(record.layout.sum_unit);
}

void pack(std::int64_t id, const Record& record, std::string& into) {
    Packer packer(into);
    packer.add(id);
    each_part(record, [&](const auto& value) { packer.add(value); });
}

WaitingRecord unpack(std::string_view from) {
    Unpacker unpacker(from);
    WaitingRecord waiting;
    unpacker.take(waiting.id);
    each_part(waiting.record, [&](auto& value) { unpacker.take(value); });
    return waiting;
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

Result<void> Spool::add(std::int64_t id, const Record& record) {
    ids_.push_back(id);
    offsets_.push_back(written_ + unwritten_.size());
    pack(id, record, unwritten_);
    return unwritten_.size() < kAtOnce ? Result<void>() : flush();
}

Result<void> Spool::flush() {
    for (std::string_view left = unwritten_; !left.empty();) {
        const ssize_t n = ::pwrite(descriptor_, left.data(), left.size(), static_cast<off_t>(written_));
        if (n < 0 && errno == EINTR) continue;
        if (n <= 0)
            return not_written("the scan's temporary file can't be written", where_,
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

Result<WaitingRecord> Spool::read(std::size_t index) {
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
std::optional<WaitingRecord> Spool::find(std::int64_t id) {
    const auto found = std::lower_bound(ids_.begin(), ids_.end(), id);
    if (found == ids_.end() || *found != id || !flush()) return std::nullopt;
    const auto index = static_cast<std::size_t>(found - ids_.begin());
    std::string bytes(static_cast<std::size_t>(end_of(index) - offsets_[index]), '\0');
    if (!load(offsets_[index], bytes)) return std::nullopt;
    return unpack(bytes);
}

}  // namespace dredger
