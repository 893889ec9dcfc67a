#include "fuzz/targets.h"

#include <filesystem>
#include <fstream>
#include <unistd.h>

#include "catalog/catalog.h"
#include "catalog/picks.h"
#include "filesystems/filesystem.h"
#include "formats/format.h"
#include "media/content.h"
#include "media/opened.h"
#include "preview/compound.h"
#include "preview/message_page.h"
#include "preview/text.h"
#include "repairing/mending.h"
#include "stores/mapi/rtf.h"
#include "stores/store.h"
#include "volumes/containers.h"
#include "volumes/mapping.h"

namespace dredger::fuzz {
namespace {

namespace fs = std::filesystem;

class Bytes final : public Medium {
  public:
    explicit Bytes(std::span<const std::byte> bytes) : bytes_(bytes.begin(), bytes.end()) {}
    std::uint64_t size() const override { return bytes_.size(); }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return "fuzz"; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>&) const override {
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), into.size(), into.begin());
        return {};
    }

  private:
    std::vector<std::byte> bytes_;
};

// A file of these bytes for what opens files by name; one for the process, written anew each time.
fs::path file_of(std::span<const std::byte> bytes, const char* extension) {
    static const fs::path folder = [] {
        fs::path made = fs::temp_directory_path() / ("dredger-fuzz-" + std::to_string(::getpid()));
        fs::create_directories(made);
        return made;
    }();
    const fs::path file = folder / (std::string("input") + extension);
    std::ofstream(file, std::ios::binary | std::ios::trunc)
        .write(reinterpret_cast<const char*>(bytes.data()), static_cast<std::streamsize>(bytes.size()));
    return file;
}

void formats(std::span<const std::byte> bytes) {
    const Bytes medium(bytes);
    const ByteView head(bytes.first(std::min<std::size_t>(bytes.size(), 64 << 10)));
    for (const Format* format : all_formats()) {
        if (!format->measure || bid_of(*format, head) == 0) continue;
        Budget budget;
        Reader reader(medium, budget);
        const Measured measured = measure(*format, reader);
        if (measured.length > medium.size() || measured.sure > measured.length) std::abort();
        if (format->describe) {
            Budget for_words;
            Reader again(medium, for_words);
            (void)format->describe(again, std::max<std::uint64_t>(measured.length, 1));
        }
        if (format->take_apart) {
            Budget for_parts;
            Reader again(medium, for_parts);
            unsigned parts = 0;
            (void)format->take_apart(again, [&](Part&& part) {
                Budget for_bytes;
                Reader content(medium, for_bytes);
                (void)bytes_of(content, part, 4096);
                return ++parts < 1000;
            });
        }
        if (format->gaps) {
            Budget for_gaps;
            Reader again(medium, for_gaps);
            (void)format->gaps(again, measured);
        }
    }
}

struct Nobody final : RecordSink {
    bool take(Record&& record) override {
        if (record.name.empty()) std::abort();
        return ++records < 20'000;
    }
    unsigned records = 0;
};

void filesystems(std::span<const std::byte> bytes) {
    const auto volume = std::make_shared<const Bytes>(bytes);
    const auto opened = open_or_infer(volume);
    if (!opened || !*opened) return;
    Nobody sink;
    std::vector<std::string> warnings;
    (void)(*opened)->walk(WalkOptions{}, sink, warnings);
    for (const auto& former : former_filesystems(volume, **opened)) (void)former->walk(WalkOptions{}, sink, warnings);
}

void volumes(std::span<const std::byte> bytes) {
    const auto medium = std::make_shared<const Bytes>(bytes);
    auto map = read_partition_map(*medium);
    if (!map) return;
    add_contained_volumes(medium, *map);
    for (const Volume& volume : map->volumes) (void)open_volume(medium, volume)->bytes(0, 512);
}

void images(std::span<const std::byte> bytes) {
    const auto opened = open_medium(file_of(bytes, ".img"));
    if (!opened) return;
    std::vector<std::byte> piece(4096);
    const std::uint64_t size = opened->medium->size();
    for (const std::uint64_t at : {std::uint64_t{0}, size / 2, size - std::min<std::uint64_t>(size, 4096)}) {
        std::vector<Extent> bad;
        const auto part = std::span(piece).first(static_cast<std::size_t>(std::min<std::uint64_t>(4096, size - at)));
        if (!part.empty()) (void)opened->medium->read(at, part, &bad);
    }
}

// What is looked at without a process of its own.
void previews(std::span<const std::byte> bytes) {
    const Bytes medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    (void)preview::office_text(reader);
    (void)preview::own_thumbnail(reader);
    (void)preview::compound_text(reader, 4096);
    (void)preview::plain_text(reader, true);
    (void)preview::plain_text(reader, false);
}

void picks(std::span<const std::byte> bytes) { (void)read_picks(file_of(bytes, ".csv")); }

void catalogs(std::span<const std::byte> bytes) {
    const auto catalog = Catalog::open(file_of(bytes, ".dredge"));
    if (!catalog) return;
    (void)catalog->volumes();
    (void)catalog->sources();
    (void)catalog->totals({});
    unsigned seen = 0;
    (void)catalog->each({}, {}, true, [&](Candidate&) { return ++seen < 100; });
}

// What a technician has mended, with a reference that is no better.
void repairs(std::span<const std::byte> bytes) {
    const auto medium = std::make_shared<const Bytes>(bytes);
    const repairing::Damaged file{medium, "file", {}};
    const repairing::Mender* mender = repairing::mender_for(file);
    if (mender == nullptr) return;
    repairing::Workbench bench(fs::temp_directory_path(), {{medium, "reference"}}, {});
    const auto mended = mender->mend(file, bench);
    if (!mended || mended->kept > mended->of) std::abort();
}

class ReadingSink final : public RecordSink {
  public:
    explicit ReadingSink(MediumPtr medium) : medium_(std::move(medium)) {}
    bool take(Record&& record) override {
        const auto content = open_content(medium_, record.layout, record.size);
        std::vector<std::byte> head(static_cast<std::size_t>(std::min<std::uint64_t>(content->size(), 64 << 10)));
        std::vector<Extent> bad;
        (void)content->read(0, head, &bad);
        return ++count_ < kMostRecords;
    }

  private:
    static constexpr std::size_t kMostRecords = 1000;
    MediumPtr medium_;
    std::size_t count_ = 0;
};

void stores(std::span<const std::byte> bytes) {
    const auto medium = std::make_shared<const Bytes>(bytes);
    for (const StoreKind& kind : all_store_kinds()) {
        auto opened = kind.open(medium, true);
        if (!opened || *opened == nullptr) continue;
        const std::shared_ptr<const MailStore> store(std::move(*opened));
        ReadingSink sink(with_composed(medium, store));
        std::vector<std::string> warnings;
        (void)store->walk({}, sink, warnings);
    }
    (void)preview::message_page(*medium);
    const std::string_view text(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    (void)dredger::stores::mapi::text_in_rtf(text);
    bool whole = true;
    (void)dredger::stores::mapi::unpack_rtf(text, whole);
}

constexpr Target kTargets[] = {{"formats", formats},   {"filesystems", filesystems}, {"images", images},
                               {"volumes", volumes},   {"previews", previews},       {"picks", picks},
                               {"catalogs", catalogs}, {"repairs", repairs},         {"stores", stores}};

}  // namespace

std::span<const Target> targets() { return kTargets; }

}  // namespace dredger::fuzz
