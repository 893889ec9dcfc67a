// JPEG pictures: what is lost of the header is completed, the picture is pieced together from what of its data makes
// sense, and written without decoding and encoding it again.
#include <fmt/format.h>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/picture/jpeg_candidates.h"
#include "repairing/picture/jpeg_mosaic.h"
#include "repairing/picture/jpeg_writer.h"

namespace dredger::repairing {
namespace {

constexpr std::uint64_t kLargestFile = 256 << 20;  // bytes
constexpr std::size_t kMostBlocks = 2 << 20;       // of 128 bytes: pictures of some 90 million pixels
constexpr std::size_t kLeastShare = 50;            // a part of so many of the picture is worth having
constexpr std::uint64_t kLargestSegment = 65533;   // bytes

class JpegMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "jpeg";
        done_.unit = "rows";
        const JpegHeader header = read_jpeg_header(content_);
        thumbnail_ = header.thumbnail;
        bool is_whole = false;
        if (file_.holes.empty()) {
            const Measured found = measured(file_, "jpeg", bench_);
            is_whole = found.is_whole();
            // Such as the film that some cameras put behind a photo: it stays.
            if (is_whole && found.length < file_.content->size())
                done_.what.push_back(fmt::format("{} bytes that are not the picture's stand behind it",
                                                 file_.content->size() - found.length));
        }
        if (header.frame && header.frame->is_progressive()) return is_whole ? unchanged(header) : rewritten(header);
        const auto guess = complete_jpeg_header(content_, header, bench_);
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (!guess) return is_whole ? unchanged(header) : beyond(header);
        if (!is_whole) done_.what = header.damage;
        done_.what.insert(done_.what.end(), guess->what.begin(), guess->what.end());
        return pieced(*guess, is_whole);
    }

  private:
    Result<Mended> unchanged(const JpegHeader& header) {
        if (header.frame) done_.kept = done_.of = header.frame->height;
        return as_it_is(file_, bench_, std::move(done_));
    }

    // The small picture that cameras put into the header is better than none.
    Result<Mended> beyond(const JpegHeader& header) {
        const bool lacks_tables = !header.has_tables();
        done_.outcome = lacks_tables ? without_reference() : Outcome::beyond;
        done_.what.emplace_back(
            done_.outcome == Outcome::wants_reference
                ? "tables of its header are lost: another photo of the same camera with the same settings would help"
            : lacks_tables ? "tables of its header are lost, and those of no reference go with its data"
                           : "its picture data makes no sense");
        return with_thumbnail();
    }

    Result<Mended> with_thumbnail() {
        if (!thumbnail_) return std::move(done_);
        Reader there = content_.within(thumbnail_->offset);
        if (!measure(*format_named("jpeg"), there).is_whole()) return std::move(done_);
        DREDGER_TRY(Output output, bench_.output());
        output.add(*file_.content, thumbnail_->offset, thumbnail_->length);
        DREDGER_CHECK(output.finish());
        done_.beside.push_back({" (thumbnail).jpg", std::move(output)});
        return std::move(done_);
    }

    std::vector<JpegSegment> segments_of(const JpegHeader& header) {
        std::vector<JpegSegment> segments;
        for (const JpegHeader::Segment& segment : header.foreign)
            if (segment.length <= kLargestSegment)
                segments.emplace_back(segment.marker,
                                      content_.text(segment.at, static_cast<std::size_t>(segment.length)));
        return segments;
    }

    Result<Mended> pieced(const JpegGuess& guess, bool is_whole) {
        const JpegHeader& header = guess.header;
        std::size_t blocks = 0;
        for (const JpegFrame::Component& component : header.frame->components)
            blocks += header.frame->mcus_across() * header.frame->mcus_down() * component.across * component.down;
        if (blocks > kMostBlocks || file_.content->size() > kLargestFile) {
            if (is_whole) return unchanged(header);
            done_.what.emplace_back("it is larger than any picture that can be repaired here");
            return std::move(done_);
        }
        const JpegScanData data = read_scan_data(content_, header, file_.holes);
        const JpegMosaic mosaic = piece_together(header, data, guess.starts_late, [&] { return bench_.should_stop(); });
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (is_whole && mosaic.jumps == 0 && data.damage.empty()) return unchanged(header);
        done_.of = header.frame->height;
        done_.kept = mosaic.picture.known_rows(header.frame->height);
        if (!data.has_end) done_.what.emplace_back("its end is missing");
        if (done_.kept < done_.of)
            done_.what.push_back(fmt::format("{} rows are lost in whole or in part: what is not known of them is grey",
                                             done_.of - done_.kept));
        if (mosaic.is_tinted) done_.what.emplace_back("brightness and colours are guessed");
        if (mosaic.damaged_places > 0 && !mosaic.is_tinted && goes_on(mosaic.picture))
            done_.what.push_back(fmt::format("behind {} the brightness of what follows was fitted to its neighbours",
                                             mosaic.damaged_places == 1 ? "the damage" : "each damage"));
        if (mosaic.jumps > 0)
            done_.what.push_back(
                fmt::format("at {} brightness or colour were off from there on: they were fitted to their neighbours",
                            mosaic.jumps == 1 ? "one place" : fmt::format("{} places", mosaic.jumps)));
        std::size_t known = 0;
        for (std::size_t mcu = 0; mcu < mosaic.picture.mcus(); ++mcu) known += mosaic.picture.is_known(mcu) ? 1 : 0;
        if (known * kLeastShare < mosaic.picture.mcus()) {
            done_.outcome = Outcome::beyond;
            done_.what = {"next to nothing of its picture data makes sense"};
            return with_thumbnail();
        }
        const auto written = write_jpeg(header, mosaic.picture, segments_of(header));
        if (!written) {
            done_.what.emplace_back("its header can't be written anew");
            return with_thumbnail();
        }
        done_.outcome = mosaic.is_complete && mosaic.jumps == 0 && !guess.is_tinted && file_.holes.empty()
                            ? Outcome::mended
                            : Outcome::partly;
        return written_as(*written);
    }

    // Whether anything is known behind the first place that is not.
    static bool goes_on(const JpegPicture& picture) {
        std::size_t first = 0;
        while (first < picture.mcus() && picture.is_known(first)) ++first;
        if (first == picture.mcus()) return true;
        for (std::size_t mcu = first; mcu < picture.mcus(); ++mcu)
            if (picture.is_known(mcu)) return true;
        return false;
    }

    // Progressive pictures come in scans, each over all of it: what is damaged in one costs sharpness, no place.
    Result<Mended> rewritten(const JpegHeader& header) {
        if (file_.content->size() > kLargestFile) return std::move(done_);
        std::string jpeg;
        for (std::uint64_t at = 0; at < content_.size();) {
            const std::string piece = content_.text(at, 1 << 20);
            if (piece.empty()) break;
            jpeg += piece;
            at += piece.size();
        }
        bool was_damaged = false;
        const auto written = rewrite_jpeg(jpeg, segments_of(header), was_damaged);
        done_.of = header.frame->height;
        if (!written) {
            done_.what.emplace_back("its picture data makes no sense");
            return with_thumbnail();
        }
        // libjpeg goes on behind damage, and does not see all of it.
        done_.outcome = Outcome::partly;
        done_.what.emplace_back(was_damaged ? "some of its refinements are damaged: which rows are exact does not show"
                                            : "something in it is damaged: which rows are exact does not show");
        return written_as(*written);
    }

    Result<Mended> written_as(const std::string& bytes) {
        DREDGER_TRY(Output output, bench_.output());
        output.add(bytes);
        return finished(std::move(output), std::move(done_));
    }

    std::optional<Extent> thumbnail_;
};

unsigned bid_for_jpeg(const Damaged& file) {
    Budget budget;
    Reader content(*file.content, budget);
    const JpegHeader header = read_jpeg_header(content);
    const std::string extension = extension_of(file.name);
    const unsigned by_name = extension == "jpg" || extension == "jpeg" ? 1 : 0;
    return (header.scan ? 24U : 0U) + (header.frame ? 24U : 0U) + by_name;
}

}  // namespace

const Mender& jpeg_mender() {
    static const Mender mender = {
        "JPEG", {"jpeg"}, "header, holes, end", bid_for_jpeg, [](const Damaged& file, Workbench& bench) {
            return JpegMending(file, bench).run();
        }};
    return mender;
}

}  // namespace dredger::repairing
