#include "repairing/film/mp4/movie.h"

#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <map>

#include "repairing/number_bytes.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;
using namespace std::string_literals;

constexpr std::uint64_t kMostSamples = 16 << 20;
constexpr std::uint64_t kLargestBox = 1 << 20;  // of those that are kept whole, bytes

bool is_name(std::string_view name) {
    return name.size() == 4 && std::all_of(name.begin(), name.end(), [](char c) {
               return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == ' ' ||
                      c == '-' || c == '_' || static_cast<unsigned char>(c) == 0xA9;
           });
}

template <class Visit>
void each_box(Reader& content, std::uint64_t at, std::uint64_t end, const Visit& visit) {
    while (at + 8 <= end && !content.budget().is_spent()) {
        const auto box = film_box_at(content, at, end);
        if (!box) return;
        visit(*box);
        at = box->end;
    }
}

std::optional<FilmBox> child(Reader& content, const FilmBox& parent, std::string_view name) {
    std::optional<FilmBox> found;
    each_box(content, parent.start, parent.end, [&](const FilmBox& box) {
        if (!found && box.name == name) found = box;
    });
    return found;
}

std::string whole(Reader& content, const FilmBox& box) {
    if (box.is_cut || box.end - box.at > kLargestBox) return {};
    return content.text(box.at, static_cast<std::size_t>(box.end - box.at));
}

class TrackReader {
  public:
    TrackReader(Reader& content, const FilmBox& box) : content_(content), box_(box) {}

    FilmTrack run() {
        if (const auto header = child(content_, box_, "tkhd")) track_.track_header = whole(content_, *header);
        const auto media = child(content_, box_, "mdia");
        if (!media) return std::move(track_);
        if (const auto header = child(content_, *media, "mdhd"))
            track_.timescale = content_.u32be(header->start + (content_.u8(header->start) == 1 ? 20 : 12));
        if (const auto handler = child(content_, *media, "hdlr")) {
            track_.handler = content_.text(handler->start + 8, 4);
            track_.handler_box = whole(content_, *handler);
        }
        const auto information = child(content_, *media, "minf");
        if (!information) return std::move(track_);
        for (const char* name : {"vmhd", "smhd", "gmhd", "nmhd"})
            if (const auto header = child(content_, *information, name)) track_.media_header = whole(content_, *header);
        const auto table = child(content_, *information, "stbl");
        if (!table) return std::move(track_);
        if (const auto description = child(content_, *table, "stsd")) {
            track_.description = whole(content_, *description);
            if (!track_.description.empty()) track_.codec = content_.text(description->start + 12, 4);
            read_sound(*description);
        }
        track_.is_complete = samples(*table);
        return std::move(track_);
    }

  private:
    // Plain sound has frames of one size and no samples of its own.
    void read_sound(const FilmBox& description) {
        constexpr std::string_view kPlain = "sowt twos raw  lpcm in24 in32 fl32 fl64 ulaw alaw ";
        if (track_.codec.empty() || kPlain.find(track_.codec) == kPlain.npos || track_.handler != "soun") return;
        const std::uint64_t entry = description.start + 8;
        const std::uint32_t channels = content_.u16be(entry + 24);
        const std::uint32_t bits = track_.codec == "ulaw" || track_.codec == "alaw" ? 8 : content_.u16be(entry + 26);
        track_.frame_size = content_.u16be(entry + 16) == 2 ? content_.u32be(entry + 56) : channels * bits / 8;
        if (content_.u16be(entry + 16) == 1 && content_.u32be(entry + 44) != 0)
            track_.frame_size = content_.u32be(entry + 44);
        if (track_.frame_size > 256) track_.frame_size = 0;
    }

    bool samples(const FilmBox& table) {
        const auto sizes = child(content_, table, "stsz");
        const auto map = child(content_, table, "stsc");
        const auto near = child(content_, table, "stco");
        const auto far = child(content_, table, "co64");
        const auto times = child(content_, table, "stts");
        if (times && !times->is_cut && content_.u32be(times->start + 4) > 0)
            track_.usual_duration = content_.u32be(times->start + 12);
        if (!sizes || !map || !times || (!near && !far)) return false;
        const FilmBox& chunks = near ? *near : *far;
        const std::uint64_t fixed = content_.u32be(sizes->start + 4);
        const std::uint64_t count = content_.u32be(sizes->start + 8);
        const std::uint64_t chunk_count = content_.u32be(chunks.start + 4);
        const std::uint64_t runs = content_.u32be(map->start + 4);
        if (count > kMostSamples || (fixed == 0 && sizes->start + 12 + 4 * count > sizes->end) || runs == 0 ||
            chunks.start + 8 + (near ? 4 : 8) * chunk_count > chunks.end || map->start + 8 + 12 * runs > map->end)
            return false;
        std::uint64_t sample = 0;
        std::uint64_t run = 0;
        for (std::uint64_t chunk = 0; chunk < chunk_count && sample < count && !content_.budget().is_spent(); ++chunk) {
            while (run + 1 < runs && content_.u32be(map->start + 8 + 12 * (run + 1)) <= chunk + 1) ++run;
            const std::uint64_t in_chunk =
                std::min<std::uint64_t>(content_.u32be(map->start + 12 + 12 * run), count - sample);
            std::uint64_t at =
                near ? content_.u32be(chunks.start + 8 + 4 * chunk) : content_.u64be(chunks.start + 8 + 8 * chunk);
            if (track_.frame_size > 0) {
                track_.samples.push_back({at, in_chunk * track_.frame_size, static_cast<std::uint32_t>(in_chunk)});
                sample += in_chunk;
                continue;
            }
            for (std::uint64_t i = 0; i < in_chunk; ++i, ++sample) {
                const std::uint64_t size = fixed != 0 ? fixed : content_.u32be(sizes->start + 12 + 4 * sample);
                track_.samples.push_back({at, size});
                at += size;
            }
        }
        if (track_.frame_size > 0) {
            learn_chunks();
            return !content_.budget().is_spent();
        }
        const bool has_times = each_run(*times, [&](FilmSample& one, std::uint32_t value) { one.duration = value; });
        if (const auto shifts = child(content_, table, "ctts"))
            each_run(*shifts,
                     [&](FilmSample& one, std::uint32_t value) { one.shift = static_cast<std::int32_t>(value); });
        if (const auto sync = child(content_, table, "stss"); sync && !sync->is_cut) {
            for (FilmSample& one : track_.samples) one.is_sync = false;
            const std::uint64_t marked =
                std::min<std::uint64_t>(content_.u32be(sync->start + 4), (sync->end - sync->start) / 4);
            for (std::uint64_t i = 0; i < marked && !content_.budget().is_spent(); ++i)
                if (const std::uint64_t number = content_.u32be(sync->start + 8 + 4 * i);
                    number >= 1 && number <= track_.samples.size())
                    track_.samples[static_cast<std::size_t>(number - 1)].is_sync = true;
        }
        return has_times && !content_.budget().is_spent();
    }

    void learn_chunks() {
        constexpr std::size_t kMost = 6;
        std::map<std::uint64_t, std::size_t> counts;
        for (const FilmSample& one : track_.samples) ++counts[one.size];
        std::vector<std::pair<std::size_t, std::uint64_t>> ordered;
        for (const auto& [size, count] : counts) ordered.emplace_back(count, size);
        std::sort(ordered.rbegin(), ordered.rend());
        for (const auto& [count, size] : ordered)
            if (track_.usual_chunks.size() < kMost) track_.usual_chunks.push_back(size);
    }

    // A table of counts and values, for one sample after the other. False where it does not reach to the last one.
    template <class Set>
    bool each_run(const FilmBox& table, const Set& set) {
        const std::uint64_t runs = content_.u32be(table.start + 4);
        if (table.start + 8 + 8 * runs > table.end) return false;
        std::size_t sample = 0;
        for (std::uint64_t i = 0; i < runs && sample < track_.samples.size() && !content_.budget().is_spent(); ++i) {
            const std::uint64_t count = content_.u32be(table.start + 8 + 8 * i);
            const std::uint32_t value = content_.u32be(table.start + 12 + 8 * i);
            for (std::uint64_t n = 0; n < count && sample < track_.samples.size(); ++n)
                set(track_.samples[sample++], value);
        }
        return sample == track_.samples.size();
    }

    Reader& content_;
    const FilmBox& box_;
    FilmTrack track_;
};

std::uint32_t track_number(const FilmTrack& track) {
    // The version says how wide the times before it are.
    const std::size_t at = track.track_header.size() > 8 && track.track_header[8] == 1 ? 8 + 20 : 8 + 12;
    if (track.track_header.size() < at + 4) return 0;
    return boost::endian::load_big_u32(reinterpret_cast<const unsigned char*>(track.track_header.data()) + at);
}

// The samples that movie fragments tell of (8.8).
class FragmentReader {
  public:
    FragmentReader(Reader& content, Film& film) : content_(content), film_(film) {}

    void defaults(const FilmBox& extends) {
        each_box(content_, extends.start, extends.end, [&](const FilmBox& box) {
            if (box.name != "trex") return;
            defaults_[content_.u32be(box.start + 4)] = {content_.u32be(box.start + 12), content_.u32be(box.start + 16),
                                                        content_.u32be(box.start + 20)};
        });
    }

    void fragment(const FilmBox& box) {
        film_.is_fragmented = true;
        std::uint64_t behind = box.at;
        each_box(content_, box.start, box.end, [&](const FilmBox& run) {
            if (run.name == "traf") track_run(run, box.at, behind);
        });
    }

  private:
    struct Values {
        std::uint32_t duration = 0, size = 0, flags = 0;
    };

    void track_run(const FilmBox& box, std::uint64_t fragment_at, std::uint64_t& behind) {
        const auto header = child(content_, box, "tfhd");
        if (!header) return;
        const std::uint32_t flags = content_.u24be(header->start + 1);
        const std::uint32_t number = content_.u32be(header->start + 4);
        Values usual = defaults_[number];
        std::uint64_t base = fragment_at;
        std::uint64_t at = header->start + 8;
        if ((flags & 0x1U) != 0) base = content_.u64be(at), at += 8;
        if ((flags & 0x2U) != 0) at += 4;
        if ((flags & 0x8U) != 0) usual.duration = content_.u32be(at), at += 4;
        if ((flags & 0x10U) != 0) usual.size = content_.u32be(at), at += 4;
        if ((flags & 0x20U) != 0) usual.flags = content_.u32be(at);
        const auto track = std::find_if(film_.tracks.begin(), film_.tracks.end(),
                                        [&](const FilmTrack& one) { return track_number(one) == number; });
        if (track == film_.tracks.end()) return;
        each_box(content_, box.start, box.end, [&](const FilmBox& run) {
            if (run.name == "trun" && !run.is_cut) samples(run, *track, usual, base, behind);
        });
    }

    void samples(const FilmBox& run, FilmTrack& track, const Values& usual, std::uint64_t base, std::uint64_t& behind) {
        const std::uint32_t flags = content_.u24be(run.start + 1);
        const std::uint64_t count = content_.u32be(run.start + 4);
        std::uint64_t at = run.start + 8;
        std::uint64_t place = behind;
        if ((flags & 0x1U) != 0) {
            place = base + static_cast<std::uint64_t>(static_cast<std::int32_t>(content_.u32be(at)));
            at += 4;
        }
        std::uint32_t first_flags = usual.flags;
        if ((flags & 0x4U) != 0) first_flags = content_.u32be(at), at += 4;
        const unsigned each =
            4 * (((flags >> 8) & 1U) + ((flags >> 9) & 1U) + ((flags >> 10) & 1U) + ((flags >> 11) & 1U));
        if (count > kMostSamples || at + count * each > run.end) return;
        for (std::uint64_t i = 0; i < count && !content_.budget().is_spent(); ++i) {
            FilmSample sample{place, usual.size, usual.duration};
            std::uint32_t sample_flags = i == 0 ? first_flags : usual.flags;
            if ((flags & 0x100U) != 0) sample.duration = content_.u32be(at), at += 4;
            if ((flags & 0x200U) != 0) sample.size = content_.u32be(at), at += 4;
            if ((flags & 0x400U) != 0) sample_flags = content_.u32be(at), at += 4;
            if ((flags & 0x800U) != 0) sample.shift = static_cast<std::int32_t>(content_.u32be(at)), at += 4;
            sample.is_sync = (sample_flags & 0x10000U) == 0;
            place += sample.size;
            track.samples.push_back(sample);
        }
        behind = place;
        track.is_complete = true;
    }

    Reader& content_;
    Film& film_;
    std::map<std::uint32_t, Values> defaults_;
};

// Boxes, made from the inside out.
class Boxes {
  public:
    static std::string box(std::string_view name, const std::string& holds) {
        return big32(8 + holds.size()) + std::string(name) + holds;
    }
    static std::string full(std::string_view name, std::uint32_t version_and_flags, const std::string& holds) {
        return box(name, big32(version_and_flags) + holds);
    }
};

const std::string kUnity = big32(0x10000) + big32(0) + big32(0) + big32(0) + big32(0x10000) + big32(0) + big32(0) +
                           big32(0) + big32(0x40000000);

class TrackWriter {
  public:
    TrackWriter(const FilmTrack& track, std::uint32_t number, std::uint32_t film_timescale, std::int64_t data_shift)
        : track_(track), number_(number), film_timescale_(film_timescale), data_shift_(data_shift) {
        for (const FilmSample& sample : track.samples) duration_ += sample.duration;
        // Pictures that are shown in another order than they are decoded in begin to be shown later.
        if (!track.samples.empty()) first_shown_ = track.samples.front().shift;
        for (const FilmSample& sample : track.samples) is_shifted_ = is_shifted_ || sample.shift != 0;
    }

    std::uint64_t duration_in_film() const { return duration_ * film_timescale_ / track_.timescale; }

    std::string run() const {
        std::string holds = header();
        if (first_shown_ > 0)
            holds +=
                Boxes::box("edts", Boxes::full("elst", 0,
                                               big32(1) + big32(duration_in_film()) +
                                                   big32(static_cast<std::uint32_t>(first_shown_)) + big32(0x10000)));
        const std::string media =
            Boxes::full("mdhd", 0,
                        big32(0) + big32(0) + big32(track_.timescale) + big32(duration_) + big16(0x55C4) + big16(0)) +
            (track_.handler_box.empty()
                 ? Boxes::full("hdlr", 0, big32(0) + track_.handler + std::string(12, '\0') + "\0"s)
                 : track_.handler_box) +
            Boxes::box("minf", media_header() +
                                   Boxes::box("dinf", Boxes::full("dref", 0, big32(1) + Boxes::full("url ", 1, ""))) +
                                   Boxes::box("stbl", table()));
        return Boxes::box("trak", holds + Boxes::box("mdia", media));
    }

  private:
    std::string header() const {
        if (track_.track_header.size() >= 92 && track_.track_header[8] == 0) {
            std::string header = track_.track_header;
            header.replace(20, 4, big32(number_));
            return header.replace(28, 4, big32(duration_in_film()));
        }
        return Boxes::full("tkhd", 3,
                           big32(0) + big32(0) + big32(number_) + big32(0) + big32(duration_in_film()) +
                               std::string(8, '\0') + big16(0) + big16(0) + big16(track_.is_sound() ? 0x100 : 0) +
                               big16(0) + kUnity + big32(0) + big32(0));
    }

    std::string media_header() const {
        if (!track_.media_header.empty()) return track_.media_header;
        return track_.is_sound() ? Boxes::full("smhd", 0, big32(0)) : Boxes::full("vmhd", 1, std::string(8, '\0'));
    }

    // Runs of equal values.
    template <class Value>
    std::string runs(std::string_view name, const Value& value) const {
        std::string entries;
        std::uint32_t count = 0;
        for (std::size_t i = 0; i < track_.samples.size();) {
            std::size_t end = i;
            while (end < track_.samples.size() && value(track_.samples[end]) == value(track_.samples[i])) ++end;
            entries += big32(end - i) + big32(static_cast<std::uint32_t>(value(track_.samples[i])));
            ++count;
            i = end;
        }
        return Boxes::full(name, 0, big32(count) + entries);
    }

    std::string table() const {
        const bool is_plain = track_.frame_size > 0;
        std::string holds = track_.description;
        if (is_plain) {
            holds += Boxes::full("stts", 0, big32(1) + big32(duration_) + big32(1));
        } else {
            holds += runs("stts", [](const FilmSample& sample) { return sample.duration; });
            if (is_shifted_) holds += runs("ctts", [](const FilmSample& sample) { return sample.shift; });
            std::string marked;
            std::uint32_t count = 0;
            for (std::size_t i = 0; i < track_.samples.size(); ++i)
                if (track_.samples[i].is_sync) marked += big32(i + 1), ++count;
            if (count < track_.samples.size()) holds += Boxes::full("stss", 0, big32(count) + marked);
        }
        return holds + chunks(is_plain) + sizes(is_plain);
    }

    std::string sizes(bool is_plain) const {
        if (is_plain) return Boxes::full("stsz", 0, big32(track_.frame_size) + big32(duration_));
        std::string entries;
        for (const FilmSample& sample : track_.samples) entries += big32(sample.size);
        return Boxes::full("stsz", 0, big32(0) + big32(track_.samples.size()) + entries);
    }

    // Samples that follow each other without a gap are a chunk.
    std::string chunks(bool is_plain) const {
        std::string map;
        std::string places;
        std::uint32_t maps = 0;
        std::uint32_t count = 0;
        std::uint64_t last = 0;
        for (std::size_t i = 0; i < track_.samples.size();) {
            std::size_t end = i + 1;
            while (!is_plain && end < track_.samples.size() && track_.samples[end].at == track_.samples[end - 1].end())
                ++end;
            const std::uint64_t in_chunk = is_plain ? track_.samples[i].duration : end - i;
            places += big(static_cast<std::uint64_t>(static_cast<std::int64_t>(track_.samples[i].at) + data_shift_));
            ++count;
            if (in_chunk != last) {
                map += big32(count) + big32(in_chunk) + big32(1);
                ++maps;
                last = in_chunk;
            }
            i = end;
        }
        return Boxes::full("stsc", 0, big32(maps) + map) + Boxes::full("co64", 0, big32(count) + places);
    }

    const FilmTrack& track_;
    std::uint32_t number_, film_timescale_;
    std::int64_t data_shift_;
    std::uint64_t duration_ = 0;
    std::int32_t first_shown_ = 0;
    bool is_shifted_ = false;
};

}  // namespace

std::optional<FilmBox> film_box_at(Reader& content, std::uint64_t at, std::uint64_t limit) {
    if (!content.holds(at, 8) || at + 8 > limit) return std::nullopt;
    FilmBox box;
    box.at = at;
    box.name = content.text(at + 4, 4);
    std::uint64_t length = content.u32be(at);
    box.start = at + 8;
    if (length == 1 && content.holds(at, 16)) {
        length = content.u64be(at + 8);
        box.start = at + 16;
    }
    if (!is_name(box.name) || (length != 0 && length < box.start - at)) return std::nullopt;
    box.is_cut = length == 0 || length > limit - at;
    box.end = box.is_cut ? limit : at + length;
    return box;
}

Film read_film(Reader& content) {
    Film film;
    FragmentReader fragments(content, film);
    std::vector<FilmBox> pieces;
    const auto index = [&](const FilmBox& moov) {
        each_box(content, moov.start, moov.end, [&](const FilmBox& box) {
            if (box.name == "mvhd") film.timescale = content.u32be(box.start + (content.u8(box.start) == 1 ? 20 : 12));
            if (box.name == "trak") film.tracks.push_back(TrackReader(content, box).run());
            if (box.name == "mvex") fragments.defaults(box);
        });
    };
    bool has_index = false;
    each_box(content, 0, content.size(), [&](const FilmBox& box) {
        if (box.name == "moov" && content.has(box.start + 4, "mvhd")) {
            has_index = true;
            film.has_index = !box.is_cut;
            index(box);
        }
        if (box.name == "moof") pieces.push_back(box);
    });
    if (!has_index) {
        // What stands of an index whose beginning is lost, or that stands where nothing leads to it.
        for (std::uint64_t at = 0; film.tracks.size() < 16;) {
            const auto found = content.find("trak"sv, at, content.size());
            if (!found || content.budget().is_spent()) break;
            at = *found + 4;
            if (*found < 4) continue;
            const auto box = film_box_at(content, *found - 4, content.size());
            if (!box || !child(content, *box, "tkhd")) continue;
            FilmTrack track = TrackReader(content, *box).run();
            if (box->is_cut) track.is_complete = false;
            if (!track.handler.empty()) film.tracks.push_back(std::move(track));
        }
    }
    for (const FilmBox& piece : pieces) fragments.fragment(piece);
    if (film.timescale == 0) film.timescale = 1000;
    return film;
}

std::string index_of(const Film& film, std::int64_t data_shift) {
    std::string tracks;
    std::uint64_t duration = 0;
    std::uint32_t number = 0;
    for (const FilmTrack& track : film.tracks) {
        if (track.samples.empty()) continue;
        const TrackWriter writer(track, ++number, film.timescale, data_shift);
        duration = std::max(duration, writer.duration_in_film());
        tracks += writer.run();
    }
    const std::string header =
        Boxes::full("mvhd", 0,
                    big32(0) + big32(0) + big32(film.timescale) + big32(duration) + big32(0x10000) + big16(0x100) +
                        std::string(10, '\0') + kUnity + std::string(24, '\0') + big32(number + 1));
    return Boxes::box("moov", header + tracks);
}

}  // namespace dredger::repairing
