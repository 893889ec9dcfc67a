#include "imaging/copy.h"

#include <bit>
#include <fmt/format.h>

#include "base/amounts.h"
#include "imaging/image_file.h"
#include "imaging/patient.h"
#include "imaging/writer.h"
#include "media/drives.h"
#include "media/file_medium.h"
#include "media/opened.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using Clock = std::chrono::steady_clock;

constexpr std::chrono::seconds kSaveEvery{5};
constexpr unsigned kDoubtAfter = 16;  // failures in a row, and then at each doubling: does it answer at all?
constexpr unsigned kMaxHanging = 3;   // reads that hang, until that is asked

struct Source {
    MediumPtr medium;
    std::string name;
    std::string serial;
    std::vector<fs::path> files;
    bool may_hang = true;
};

Result<Source> open_source(const CopyRequest& request) {
    if (request.medium) return Source{request.medium, request.medium->name(), {}, {}};
    DREDGER_TRY(const OpenedMedium opened, open_medium(request.source));
    Source source{opened.medium, fs::absolute(request.source).lexically_normal().string(), {}, opened.files};
    source.may_hang = opened.is_device;
    if (opened.is_device) {
        source.serial = serial_of(request.source);
        DREDGER_TRY(source.medium, FileMedium::open(request.source, true));
    }
    return source;
}

// The map of an earlier run, if it is of this medium; else a new one.
Result<AreaMap> map_for(const CopyRequest& request, const Source& source, const fs::path& first, const fs::path& file,
                        bool& resumed) {
    std::error_code failed;
    resumed = fs::exists(file, failed);
    if (!resumed) {
        if (fs::exists(first, failed))
            return fail(ErrorKind::usage, "there is a file of this name already, and no map that belongs to it",
                        first.string(), "choose another name: it is not overwritten");
        AreaMap map(source.medium->size());
        map.facts["path"] = source.name;
        if (!source.serial.empty()) map.facts["serial"] = source.serial;
        map.facts["sector"] = std::to_string(source.medium->sector_size());
        if (request.split > 0) map.facts["part"] = std::to_string(request.split);
        return map;
    }
    DREDGER_TRY(AreaMap map, AreaMap::read(file));
    if (map.size() != source.medium->size() ||
        (!source.serial.empty() && map.facts.contains("serial") && map.facts["serial"] != source.serial))
        return fail(ErrorKind::unsafe, "the image was begun from another medium", file.string(),
                    fmt::format("that one had {} bytes, this one has {}; give another file name", map.size(),
                                source.medium->size()));
    const auto part = map.facts.find("part");
    if ((part == map.facts.end() ? "" : part->second) != (request.split > 0 ? std::to_string(request.split) : ""))
        return fail(ErrorKind::usage, "the image was begun with another --split", file.string(),
                    "use the same one, or another file name");
    // A run that was killed at once may have left nothing but its map.
    if (!fs::exists(first, failed) && map.totals().of(AreaState::untried) < map.size())
        return fail(ErrorKind::usage, "the map is there, but not the image", first.string(),
                    "put the image back, or move the map away to begin anew");
    return map;
}

class Copying {
  public:
    Copying(const CopyRequest& request, Source source, AreaMap map, ImageFile image, fs::path map_file,
            Observer& observer)
        : request_(request),
          observer_(observer),
          source_(std::move(source)),
          map_(std::move(map)),
          image_(std::move(image)),
          map_file_(std::move(map_file)),
          passes_(map_, {request.block, std::max<std::uint32_t>(512, source_.medium->sector_size()), request.retries,
                         request.reverse, request.range}),
          reader_(source_.medium, source_.may_hang ? request.timeout : std::chrono::milliseconds(0)),
          pool_(request.block),
          hash_(image_, request.hashes),
          writer_(image_, map_file_, hash_) {}

    Result<CopyReport> run() {
        report_.size = map_.size();
        report_.map = map_file_;
        DREDGER_CHECK(writer_.save(map_));
        saved_ = Clock::now();
        const auto read = read_all();
        const auto saved = writer_.save(map_);
        const auto closed = writer_.close();
        for (const auto& step : {closed, saved, read})
            if (!step) report_.stopped = step.error();
        if (report_.stopped) DREDGER_CHECK(keep_what_arrived());
        report_.totals = map_.totals();
        if (request_.hashes && !report_.interrupted && !report_.stopped && report_.totals.of(AreaState::untried) == 0)
            DREDGER_CHECK(hash());
        return report_;
    }

  private:
    // A full drive may have no room for the map either: then the last one that was written holds.
    Result<void> keep_what_arrived() {
        for (const Extent& block : writer_.lost()) map_.set(block.offset, block.length, AreaState::untried);
        if (image_.sync() && map_.write(map_file_)) return {};
        DREDGER_TRY(map_, AreaMap::read(map_file_));
        return {};
    }

    Result<void> read_all() {
        auto bytes = pool_.take();
        while (const auto wanted = passes_.next()) {
            if (observer_.should_stop()) {
                report_.interrupted = true;
                return {};
            }
            const auto answer = reader_.read(wanted->offset, static_cast<std::size_t>(wanted->length), bytes);
            const bool was_read = answer == PatientReader::Answer::read;
            passes_.answer(*wanted, was_read);
            if (was_read) {
                failed_in_a_row_ = 0;
                report_.copied += wanted->length;
                last_good_ = *wanted;
                DREDGER_CHECK(
                    writer_.write({wanted->offset, static_cast<std::size_t>(wanted->length), std::move(bytes)}));
                bytes = pool_.take();
            } else {
                ++failed_in_a_row_;
                DREDGER_CHECK(ask_whether_it_answers(answer));
            }
            DREDGER_CHECK(report_and_save());
        }
        return {};
    }

    // A drive that has gone off the bus fails everywhere: that must not be written down as bad areas.
    Result<void> ask_whether_it_answers(PatientReader::Answer answer) {
        const bool all_hang = answer == PatientReader::Answer::hangs && reader_.hanging() >= kMaxHanging;
        if (all_hang)
            return fail(ErrorKind::unreadable,
                        fmt::format("{} reads hang: the medium does not answer any more", kMaxHanging), source_.name,
                        "switch it off and on again, then run the same command: it goes on there");
        if (failed_in_a_row_ < kDoubtAfter || !std::has_single_bit(failed_in_a_row_) || last_good_.length == 0)
            return {};
        auto bytes = std::make_shared<AlignedBytes>(request_.block);
        if (reader_.read(last_good_.offset, static_cast<std::size_t>(last_good_.length), bytes) ==
            PatientReader::Answer::read)
            return {};
        return fail(ErrorKind::unreadable, "what could be read a moment ago can't be read any more", source_.name,
                    "switch the medium off and on again, then run the same command: it goes on there");
    }

    Result<void> report_and_save() {
        const auto now = Clock::now();
        if (now - told_ > std::chrono::milliseconds(100)) {
            told_ = now;
            const auto kind = static_cast<std::size_t>(passes_.kind());
            if (kind != shown_kind_) {
                shown_kind_ = kind;
                pass_total_ = passes_.left();
            }
            const AreaTotals totals = map_.totals();
            const std::uint64_t left = passes_.left();
            observer_.progress({kPassWords[kind].data(), pass_total_ - std::min(pass_total_, left), pass_total_,
                                "bytes", 0,
                                totals.bad_areas == 0 ? "" : fmt::format("{} bad areas", totals.bad_areas)});
        }
        if (now - saved_ < kSaveEvery) return {};
        saved_ = now;
        return writer_.save(map_);
    }

    // Of the image, as it is now: most of it was hashed while it was written.
    Result<void> hash() {
        hash_.stop();
        while (hash_.position() < map_.size()) {
            if (observer_.should_stop()) return {};
            observer_.progress({"hashing the image", hash_.position(), map_.size(), "bytes", 0});
            if (!hash_.go_on(map_.size()))
                return fail(ErrorKind::output, "the image can't be read back", request_.file.string(),
                            "check the drive it was written to");
        }
        report_.sha256 = hash_.finish();
        map_.facts["sha256"] = report_.sha256;
        return map_.write(map_file_);
    }

    const CopyRequest& request_;
    Observer& observer_;
    Source source_;
    AreaMap map_;
    ImageFile image_;
    fs::path map_file_;
    Passes passes_;
    PatientReader reader_;
    BlockPool pool_;
    FollowingHash hash_;
    Writer writer_;
    CopyReport report_;
    Extent last_good_;
    unsigned failed_in_a_row_ = 0;
    Clock::time_point saved_, told_;
    std::size_t shown_kind_ = ~std::size_t{0};
    std::uint64_t pass_total_ = 0;
};

}  // namespace

Result<CopyReport> copy_medium(const CopyRequest& request, Observer& observer) {
    DREDGER_TRY(Source source, open_source(request));
    const fs::path first = ImageFile::first_part(request.file, request.split);
    for (const fs::path& read : source.files)
        for (const fs::path& written : {request.file, first})
            if (std::error_code failed; fs::equivalent(read, written, failed))
                return fail(ErrorKind::unsafe, "this is the source itself, and a source is never written to",
                            written.string(), "give another file");
    if (request.range.offset >= source.medium->size())
        return fail(ErrorKind::usage, "--range begins behind the end of the medium", source.name,
                    fmt::format("it has {} bytes", source.medium->size()));
    const std::string danger = writing_endangers(request.file, source.files);
    if (!danger.empty()) {
        if (!request.onto_same_drive)
            return fail(ErrorKind::unsafe, "writing the image there could destroy what is to be copied: " + danger,
                        request.file.string(), "write to another drive, or spell out --onto-same-drive");
        observer.warning(fmt::format("{}: {}; going on as told by --onto-same-drive", request.file.string(), danger));
    }
    const fs::path map_file = AreaMap::beside(first);
    bool resumed = false;
    DREDGER_TRY(AreaMap map, map_for(request, source, first, map_file, resumed));
    // The map comes first: an image without one is somebody else's.
    if (!resumed) DREDGER_CHECK(map.write(map_file));
    DREDGER_TRY(ImageFile image, ImageFile::open(request.file, map.size(), request.split));
    DREDGER_TRY(CopyReport report,
                Copying(request, std::move(source), std::move(map), std::move(image), map_file, observer).run());
    report.was_resumed = resumed;
    return report;
}

}  // namespace dredger
