#include "imaging/copy.h"

#include <bit>
#include <fmt/format.h>
#include <ranges>

#include "base/amounts.h"
#include "base/checked.h"
#include "base/times.h"
#include "imaging/asking.h"
#include "imaging/image_file.h"
#include "imaging/patient.h"
#include "imaging/structures.h"
#include "imaging/writer.h"
#include "media/coverage.h"
#include "media/drives.h"
#include "media/file_medium.h"
#include "media/opened.h"

namespace dredger {
namespace {

namespace fs = std::filesystem;
using Clock = std::chrono::steady_clock;

constexpr std::chrono::seconds kSaveEvery{5};
constexpr std::chrono::milliseconds kTellEvery{100};
constexpr const char* kStructures = "the file systems' structures";
constexpr unsigned kDoubtAfter = 16;  // refusals in a row, and then at each doubling: does it answer at all?
constexpr unsigned kMaxHanging = 3;   // reads that hang, until that is asked

struct Source {
    MediumPtr medium;
    std::string name;
    std::string serial;
    std::vector<fs::path> files;
    std::vector<Extent> absent;  // it is a copy itself, and does not hold these
    bool may_hang = true;
};

Result<Source> open_source(const CopyRequest& request) {
    if (request.medium) return Source{request.medium, request.medium->name(), {}, {}, {}};
    DREDGER_TRY(const OpenedMedium opened, open_medium(request.source));
    Source source{
        opened.medium, fs::absolute(request.source).lexically_normal().string(), {}, opened.files, opened.not_asked};
    source.may_hang = opened.is_device;
    if (opened.is_device) {
        source.serial = serial_of(request.source);
        DREDGER_TRY(source.medium, FileMedium::open(request.source, true));
    }
    return source;
}

// What this source can't give is not asked for; what an earlier source could not may be had now.
void mark_absent(AreaMap& map, const std::vector<Extent>& absent) {
    for (const Extent& area : map.areas_that_are(Asked::Outcome::absent)) map.set(area.offset, area.length, {});
    for (const Extent& gap : absent)
        for (const Extent& missing : map.not_held_in(gap))
            map.set(missing.offset, missing.length, {Asked::Outcome::absent});
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
    if (!fs::exists(first, failed) && map.totals().held() > 0)
        return fail(ErrorKind::usage, "the map is there, but not the image", first.string(),
                    "put the image back, or move the map away to begin anew");
    return map;
}

std::string now_text() {
    const auto now = std::chrono::system_clock::to_time_t(std::chrono::system_clock::now());
    return iso8601({static_cast<std::int64_t>(now), 0, FileTime::Clock::utc});
}

class Copying final : CopySoFar {
  public:
    Copying(const CopyRequest& request, Source source, AreaMap map, ImageFile image, fs::path map_file,
            Observer& observer)
        : request_(request),
          observer_(observer),
          source_(std::move(source)),
          map_(std::move(map)),
          earlier_runs_(map_.runs),
          image_(std::move(image)),
          map_file_(std::move(map_file)),
          reader_(source_.medium, source_.may_hang ? request.patience : std::chrono::milliseconds(0)),
          pool_(request.piece),
          hash_(image_, request.hashes),
          writer_(image_, map_file_, hash_) {}

    Result<CopyReport> run() {
        report_.size = map_.size();
        report_.map = map_file_;
        DREDGER_CHECK(writer_.save(map_));
        saved_ = begun_ = Clock::now();
        const auto read = read_all();
        note_run();
        const auto saved = writer_.save(map_);
        const auto closed = writer_.close();
        for (const auto& step : {closed, saved, read})
            if (!step) report_.stopped = step.error();
        if (report_.stopped) DREDGER_CHECK(keep_what_arrived());
        tell();
        if (request_.hashes && is_over_for_good() && report_.totals.unasked() == 0) DREDGER_CHECK(hash());
        return report_;
    }

  private:
    bool is_over_for_good() const { return !report_.interrupted && !report_.out_of_time && !report_.stopped; }

    // A full drive may have no room for the map either: then the last one that was written holds.
    Result<void> keep_what_arrived() {
        for (const Extent& block : writer_.lost()) map_.set(block.offset, block.length, {});
        if (image_.sync() && map_.write(map_file_)) return {};
        DREDGER_TRY(map_, AreaMap::read(map_file_));
        return {};
    }

    Result<void> read_all() {
        std::vector<std::vector<Extent>> worth;
        if (request_.structures_first) {
            structures_ = copy_structures(*source_.medium, *this, observer_);
            if (ended_) return *ended_;
            worth.push_back(structures_);
            rank_words_.emplace_back(kStructures);
        }
        if (!request_.chosen.empty()) {
            worth.push_back(request_.chosen);
            rank_words_.emplace_back("the chosen files");
        }
        rank_words_.emplace_back(request_.chosen.empty() ? "copying" : "the rest");
        Asking asking(map_,
                      {request_.piece, std::max<std::uint32_t>(512, source_.medium->sector_size()), request_.asks,
                       request_.backwards, request_.within},
                      std::move(worth));
        while (const auto wanted = asking.next()) {
            if (has_to_end()) return {};
            const bool first = asking.refusals() == 0;
            const auto answer = ask(*wanted, first);
            asking.answer(*wanted, answer.came(), answer.took);
            if (answer.came()) {
                DREDGER_CHECK(
                    writer_.write({wanted->offset, static_cast<std::size_t>(wanted->length), std::move(bytes_)}));
                bytes_ = nullptr;
            } else {
                DREDGER_CHECK(ask_whether_it_answers(answer));
            }
            show(asking);
            DREDGER_CHECK(save_now_and_then());
        }
        return {};
    }

    bool has_to_end() {
        report_.interrupted = observer_.should_stop();
        report_.out_of_time = request_.at_most.count() > 0 && Clock::now() - begun_ >= request_.at_most;
        return report_.interrupted || report_.out_of_time;
    }

    PatientReader::Answer ask(const Extent& wanted, bool first) {
        if (bytes_ == nullptr) bytes_ = pool_.take();
        const auto answer = reader_.read(wanted.offset, static_cast<std::size_t>(wanted.length), bytes_);
        pulse_.answered(answer.came(), answer.took, first);
        if (answer.came()) {
            refused_in_a_row_ = 0;
            in_doubt_.clear();
            report_.copied += wanted.length;
            last_good_ = wanted;
        } else {
            ++refused_in_a_row_;
            for (const AreaMap::Area& area : map_.areas_in(wanted)) in_doubt_.push_back(area);
        }
        return answer;
    }

    // Of those who look at the structures. Nothing was given to the writer before they are done.
    Result<void> fetch(const Extent& wanted) override {
        const std::uint64_t end =
            std::min(wanted.end(), checked_add(request_.within.offset, request_.within.length).value_or(map_.size()));
        for (std::uint64_t at = std::max(wanted.offset, request_.within.offset); at < end;) {
            Extent area = map_.next_refused(0, at);
            if (area.length == 0 || area.offset >= end) break;
            area.length = std::min({area.length, end - area.offset, request_.piece});
            if (const auto done = fetch_unasked(area); !done) {
                ended_ = done;
                return done;
            }
            at = area.end();
        }
        return {};
    }

    Result<void> fetch_unasked(const Extent& area) {
        if (has_to_end()) {
            ended_ = Result<void>();
            return fail(ErrorKind::unreadable, "the copy has ended", source_.name);
        }
        const auto answer = ask(area, true);
        // The map calls nothing copied that could not be written.
        if (answer.came())
            DREDGER_CHECK(image_.write(area.offset, std::span(*bytes_).first(static_cast<std::size_t>(area.length))));
        map_.answer(area, answer.came(), answer.took);
        if (answer.came()) {
            hash_.arrived(area);
        } else {
            DREDGER_CHECK(ask_whether_it_answers(answer));
        }
        show_progress(kStructures, report_.copied, 0);
        return save_now_and_then();
    }

    Result<void> read(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        if (!image_.read(offset, into))
            return fail(ErrorKind::output, "the image can't be read back", request_.file.string(),
                        "check the drive it was written to");
        for (const Extent& gap : map_.not_held_in({offset, into.size()})) bad.push_back(gap);
        return {};
    }

    // A drive that has gone off the bus fails everywhere: that must not be written down as its refusals.
    Result<void> ask_whether_it_answers(const PatientReader::Answer& answer) {
        if (answer.outcome == PatientReader::Outcome::hangs && reader_.hanging() >= kMaxHanging)
            return gone(fmt::format("{} reads hang: the medium does not answer any more", kMaxHanging));
        if (refused_in_a_row_ < kDoubtAfter || !std::has_single_bit(refused_in_a_row_) || last_good_.length == 0)
            return {};
        auto bytes = std::make_shared<AlignedBytes>(request_.piece);
        if (!reader_.read(last_good_.offset, static_cast<std::size_t>(last_good_.length), bytes).came())
            return gone("what could be read a moment ago can't be read any more");
        in_doubt_.clear();
        return {};
    }

    tl::unexpected<Error> gone(std::string why) {
        for (const AreaMap::Area& area : std::views::reverse(in_doubt_)) map_.set(area.offset, area.length, area.asked);
        return fail(ErrorKind::unreadable, std::move(why), source_.name,
                    "switch the medium off and on again, then run the same command: it goes on there");
    }

    void show(const Asking& asking) {
        if (Clock::now() - told_ <= kTellEvery) return;
        const std::uint64_t left = asking.left();
        const std::string doing = asking.refusals() == 0
                                      ? rank_words_[asking.rank()]
                                      : fmt::format("what was refused, {} at a time", size_text(asking.piece()));
        if (doing != doing_ || left > round_total_) round_total_ = left;
        doing_ = doing;
        show_progress(doing_.c_str(), round_total_ - left, round_total_);
    }

    void show_progress(const char* doing, std::uint64_t done, std::uint64_t total) {
        const auto now = Clock::now();
        if (now - told_ <= kTellEvery) return;
        told_ = now;
        const AreaTotals totals = map_.totals();
        observer_.progress({doing, done, total, "bytes", 0,
                            totals.refused() == 0 ? "" : fmt::format("{} refused", size_text(totals.refused()))});
    }

    Result<void> save_now_and_then() {
        const auto now = Clock::now();
        if (now - saved_ < kSaveEvery) return {};
        saved_ = now;
        note_run();
        return writer_.save(map_);
    }

    void note_run() {
        if (pulse_.asks() == 0) return;
        if (map_.runs.size() == earlier_runs_.size()) map_.runs.push_back({begun_at_, 0, 0, 0, 0});
        AreaMap::Run& run = map_.runs.back();
        run.asks = pulse_.asks();
        run.refused = pulse_.refused();
        run.slow = pulse_.slow();
        run.held = report_.copied;
    }

    void tell() {
        report_.totals = map_.totals();
        if (!structures_.empty()) report_.structures = map_.totals_in(structures_);
        if (!request_.chosen.empty()) report_.chosen = map_.totals_in(Coverage(request_.chosen).extents());
        if (pulse_.asks() > 0) report_.health = pulse_.advice(earlier_runs_, report_.totals.refused());
        report_.price_of_refusal = pulse_.price_of_refusal();
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
    std::vector<AreaMap::Run> earlier_runs_;
    ImageFile image_;
    fs::path map_file_;
    PatientReader reader_;
    BlockPool pool_;
    FollowingHash hash_;
    Writer writer_;
    Pulse pulse_;
    CopyReport report_;
    std::vector<Extent> structures_;
    std::optional<Result<void>> ended_;  // while the structures were looked at: how
    std::shared_ptr<AlignedBytes> bytes_;
    Extent last_good_;
    unsigned refused_in_a_row_ = 0;
    std::vector<AreaMap::Area> in_doubt_;  // as the map had them before they were refused in a row
    std::string begun_at_ = now_text();
    Clock::time_point begun_, saved_, told_;
    std::vector<std::string> rank_words_;
    std::string doing_;
    std::uint64_t round_total_ = 0;
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
    if (request.within.offset >= source.medium->size())
        return fail(ErrorKind::usage, "--within begins behind the end of the medium", source.name,
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
    mark_absent(map, source.absent);
    // The map comes first: an image without one is somebody else's.
    if (!resumed) DREDGER_CHECK(map.write(map_file));
    DREDGER_TRY(ImageFile image, ImageFile::open(request.file, map.size(), request.split));
    DREDGER_TRY(CopyReport report,
                Copying(request, std::move(source), std::move(map), std::move(image), map_file, observer).run());
    report.was_resumed = resumed;
    return report;
}

}  // namespace dredger
