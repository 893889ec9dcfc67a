// Films of boxes: their samples are found again by the tables that stand, or by what samples are made of, and get an
// index anew. The data itself is copied as it is.
#include <boost/endian/conversion.hpp>
#include <fmt/format.h>
#include <set>

#include "base/text.h"
#include "formats/format.h"
#include "media/content.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/film/sample_search.h"

namespace dredger::repairing {
namespace {

using namespace std::string_literals;
using namespace std::string_view_literals;

constexpr double kTrusted = 0.9;         // share of right samples at which a table is believed
constexpr std::uint64_t kLeastFilm = 4;  // samples that are worth an index

class FilmMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = extension_of(file_.name) == "mov" ? "mov" : "mp4";
        done_.unit = "frames";
        own_ = read_film(content_);
        const bool has_tables = own_.has_index && !own_.tracks.empty() &&
                                std::all_of(own_.tracks.begin(), own_.tracks.end(), [&](const FilmTrack& track) {
                                    return track.is_complete && track.can_be_used() &&
                                           share_of_right_samples(track, *file_.content) >= kTrusted;
                                });
        if (has_tables && file_.holes.empty()) {
            const Measured found = measured(file_, "mp4", bench_);
            if (found.is_whole() && found.length == file_.content->size()) {
                if (!found.format.empty()) done_.format = found.format;
                done_.kept = done_.of = pictures_of(own_);
                return as_it_is(file_, bench_, std::move(done_));
            }
        }
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (has_tables)
            by_tables();
        else if (!by_search())
            return std::move(done_);
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        return write();
    }

  private:
    static std::uint64_t pictures_of(const Film& film) {
        std::uint64_t count = 0;
        std::uint64_t sounds = 0;
        for (const FilmTrack& track : film.tracks) (track.is_video() ? count : sounds) += track.samples.size();
        return count > 0 ? count : sounds;
    }

    // The tables are right; what they tell of may be cut off, or overwritten.
    void by_tables() {
        film_ = own_;
        done_.of = pictures_of(film_);
        for (FilmTrack& track : film_.tracks) {
            const auto syntax = syntax_of(track);
            DataWindow window(*file_.content, file_.content->size());
            std::erase_if(track.samples, [&](const FilmSample& sample) {
                const bool is_there = sample.end() <= file_.content->size() &&
                                      !file_.touches_hole(sample.at, sample.size) &&
                                      (syntax == nullptr || is_right_sample(*syntax, sample, window));
                lost_ += is_there ? 0 : 1;
                return !is_there;
            });
        }
        if (own_.is_fragmented) done_.what.emplace_back("it was made one film of its fragments");
        if (lost_ == 0) done_.what.emplace_back("the sizes of its boxes were wrong");
    }

    // Pictures that can be decoded by themselves show whether they are whole.
    void drop_broken_pictures(FilmTrack& track) {
        if (track.codec != "jpeg" && track.codec != "mjpa") return;
        const Format& jpeg = *format_named("jpeg");
        std::erase_if(track.samples, [&](const FilmSample& sample) {
            if (bench_.should_stop()) return false;
            const Content picture(file_.content, std::vector<Extent>{{sample.at, sample.size}});
            Budget budget = bench_.budget();
            Reader reader(picture, budget);
            const bool is_broken = measure(jpeg, reader).end == Measured::End::broken;
            lost_ += is_broken ? 1 : 0;
            return is_broken;
        });
    }

    // Where the data lies: in the box `mdat`, however long that says that it is.
    void find_data() {
        const std::uint64_t size = content_.size();
        from_ = 0;
        to_ = size;
        bool has_data = false;
        for (std::uint64_t at = 0; at < size;) {
            const auto box = film_box_at(content_, at, size);
            if (!box || (!has_data && box->is_cut && box->name != "mdat")) break;
            if (box->name == "mdat") {
                from_ = box->start;
                to_ = box->end;
                has_data = true;
            }
            at = box->end;
        }
        if (!has_data) {
            const auto name = content_.find("mdat"sv, 0, std::min<std::uint64_t>(size, 1 << 20));
            if (name) from_ = *name + 4;
        }
        // An index behind the data ends it.
        for (std::uint64_t at = from_; at < to_;) {
            const auto found = content_.find("moov"sv, at, to_);
            if (!found) break;
            at = *found + 4;
            const auto box = *found >= 4 ? film_box_at(content_, *found - 4, size) : std::nullopt;
            if (!box || !content_.has(box->start + 4, "mvhd")) continue;
            to_ = box->at;
        }
        // One that is damaged at its start still has tracks, in front of which no data stands.
        for (const FilmTrack& track : own_.tracks)
            if (!track.track_header.empty())
                if (const auto header = content_.find(std::string_view(track.track_header).substr(0, 24), from_, size);
                    header && *header < to_)
                    to_ = *header;
    }

    // By what samples are made of, with the descriptions of the film itself and of references.
    bool by_search() {
        find_data();
        if (find_with(own_.tracks, "")) film_ = own_;
        std::set<std::string> tried;
        for (const Reference& reference : bench_.references()) {
            Budget budget = bench_.budget();
            Reader theirs(*reference.content, budget);
            Film film = read_film(theirs);
            // Many films of one camera are set up alike.
            std::string setup;
            for (const FilmTrack& track : film.tracks) setup += track.handler + track.description;
            if (!tried.insert(setup).second) continue;
            // What still stands of the film's own tracks goes before those of another.
            for (FilmTrack& track : film.tracks)
                for (const FilmTrack& own : own_.tracks)
                    if (own.handler == track.handler && own.can_be_used()) {
                        const std::uint32_t usual = track.usual_duration;
                        track = own;
                        if (track.usual_duration == 0) track.usual_duration = usual;
                    }
            for (FilmTrack& track : film.tracks) track.samples.clear();
            if (find_with(film.tracks, reference.name)) film_ = film;
        }
        if (best_found_ == 0) {
            done_.outcome = without_reference();
            done_.what.emplace_back(bench_.references().empty()
                                        ? "its index is lost: another film of the same camera and settings would help"
                                        : "its index is lost, and no reference goes with its data");
            return false;
        }
        done_.what.push_back(best_reference_.empty()
                                 ? "its index was made anew"
                                 : fmt::format("its index was made anew, with the setup of {}", best_reference_));
        for (FilmTrack& track : film_.tracks) {
            std::erase_if(track.samples,
                          [&](const FilmSample& sample) { return file_.touches_hole(sample.at, sample.size); });
            drop_broken_pictures(track);
            set_orders(track, *file_.content);
        }
        done_.of = pictures_of(film_);
        return true;
    }

    bool find_with(std::vector<FilmTrack>& tracks, const std::string& name) {
        std::erase_if(tracks, [](const FilmTrack& track) { return !track.can_be_used(); });
        if (tracks.empty()) return false;
        const SampleSearch search =
            find_samples(tracks, *file_.content, from_, to_, [&] { return bench_.should_stop(); });
        std::uint64_t count = 0;
        for (const FilmTrack& track : tracks) count += track.samples.size();
        if (count < kLeastFilm || search.found <= best_found_ || search.found < search.lost / 4) return false;
        best_found_ = search.found;
        best_reference_ = name;
        lost_ = search.places;
        lost_bytes_ = search.lost;
        return true;
    }

    Result<Mended> write() {
        std::uint64_t first = content_.size();
        std::uint64_t end = 0;
        for (const FilmTrack& track : film_.tracks)
            for (const FilmSample& sample : track.samples) {
                first = std::min(first, sample.at);
                end = std::max(end, sample.end());
            }
        done_.kept = pictures_of(film_);
        if (first >= end) {
            done_.what.emplace_back("none of its frames can be had");
            return std::move(done_);
        }
        if (lost_ > 0 && lost_bytes_ > 0)
            done_.what.push_back(fmt::format("at {} {} bytes belong to no whole frame",
                                             lost_ == 1 ? "one place" : fmt::format("{} places", lost_), lost_bytes_));
        else if (lost_ > 0)
            done_.what.push_back(fmt::format("{} frames of picture or sound are cut off or damaged", lost_));
        DREDGER_TRY(Output output, bench_.output());
        output.add(type_box());
        std::string header = "\0\0\0\1mdat"s;
        const std::uint64_t length = boost::endian::native_to_big(16 + (end - first));
        header.append(reinterpret_cast<const char*>(&length), sizeof(length));
        output.add(header);
        const std::uint64_t data_at = output.size();
        output.add(*file_.content, first, end - first);
        output.add(index_of(film_, static_cast<std::int64_t>(data_at) - static_cast<std::int64_t>(first)));
        done_.outcome = lost_ == 0 && file_.holes.empty() ? Outcome::mended : Outcome::partly;
        return finished(std::move(output), std::move(done_));
    }

    std::string type_box() {
        if (const auto box = film_box_at(content_, 0, content_.size());
            box && box->name == "ftyp" && !box->is_cut && box->end < 4096)
            return content_.text(0, static_cast<std::size_t>(box->end));
        return done_.format == "mov" ? "\0\0\0\x14"
                                       "ftypqt  \0\0\2\0qt  "s
                                     : "\0\0\0\x18"
                                       "ftypisom\0\0\2\0isommp42"s;
    }

    Film own_, film_;
    std::uint64_t from_ = 0, to_ = 0;  // of the data
    std::uint64_t best_found_ = 0;
    std::string best_reference_;
    std::uint64_t lost_ = 0, lost_bytes_ = 0;
};

unsigned bid_for_film(const Damaged& file) {
    Budget budget;
    Reader content(*file.content, budget);
    unsigned bits = 0;
    for (const std::string_view name : {"moov"sv, "mdat"sv, "trak"sv, "moof"sv})
        if (content.find(name, 0, std::min<std::uint64_t>(content.size(), 1 << 20))) bits += 16;
    constexpr std::string_view kNames[] = {"mp4", "mov", "m4v", "3gp", "m4a", "3g2"};
    const std::string extension = extension_of(file.name);
    return bits + (std::find(std::begin(kNames), std::end(kNames), extension) != std::end(kNames) ? 1 : 0);
}

}  // namespace

const Mender& film_mender() {
    static const Mender mender = {"MP4, MOV and 3GP",
                                  {"mp4", "mov", "m4v", "m4a", "3gp"},
                                  "index, sizes, end",
                                  bid_for_film,
                                  [](const Damaged& file, Workbench& bench) { return FilmMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
