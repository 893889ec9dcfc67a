// Files of boxes: ISO base media (ISO/IEC 14496-12) with MP4, QuickTime (QuickTime File Format), 3GP, M4A, HEIF/AVIF
// (ISO/IEC 23008-12) and Canon's CR3, and with the same boxes JPEG 2000 (ISO/IEC 15444-1) and JPEG XL (ISO/IEC
// 18181-2).
#include <algorithm>
#include <array>
#include <fmt/format.h>

#include "formats/exif.h"
#include "formats/families.h"
#include "formats/jpeg2000.h"

namespace dredger::formats {
namespace {

constexpr unsigned kMaxBoxes = 1'000'000;
constexpr unsigned kMaxDepth = 8;
constexpr std::string_view kNoIndex = "its index is missing";
constexpr std::uint64_t kMaxSamples = 8 << 20;

struct Box {
    std::uint64_t at = 0;
    std::uint64_t start = 0;  // of what it holds
    std::uint64_t end = 0;
    bool to_the_end = false;  // it says that it runs to the end of the file
};

// The box at `at`, which may reach past `limit` only where it runs to the end of the file.
std::optional<Box> box_at(Reader& content, std::uint64_t at) {
    if (!content.holds(at, 8)) return std::nullopt;
    std::uint64_t length = content.u32be(at);
    std::uint64_t header = 8;
    if (length == 1) {
        length = content.u64be(at + 8);
        header = 16;
    }
    if (length == 0) return Box{at, at + header, content.size(), true};
    if (length < header || length > std::uint64_t{1} << 50) return std::nullopt;
    return Box{at, at + header, at + length, false};
}

bool is_one_of(Reader& content, std::uint64_t at, std::string_view names) {
    const std::string name = content.text(at, 4);
    for (std::size_t i = 0; i + 4 <= names.size(); i += 4)
        if (names.substr(i, 4) == name) return true;
    return false;
}

constexpr std::string_view kTopBoxes =
    "ftypmoovmdatfreeskipwideuuidmetamoofmfrasidxstyppnotudtapdinssixprftemsgimdajunkPICT"
    "jP  jp2hjp2cjp2ixml JXL jxlcjxlpjxlljxlibrobExifjumb";
constexpr std::string_view kParents = "moovtrakmdiaminfstblmooftrafmvexedtsdinf";

template <class Visit>
bool each_box(Reader& content, std::uint64_t at, std::uint64_t end, const Visit& visit) {
    for (unsigned n = 0; at + 8 <= end && n < kMaxBoxes; ++n) {
        const auto box = box_at(content, at);
        if (!box || box->to_the_end || box->end > end) return false;
        if (!visit(*box)) return false;
        at = box->end;
    }
    // QuickTime ends a list of boxes with four zero bytes.
    return at == end || (end - at == 4 && content.u32be(at) == 0);
}

// A box of a kind that is not known here: everybody may add kinds. Whether it leads to one that is known, of letters
// all the way.
bool leads_on(Reader& content, Box box) {
    constexpr unsigned kMostInBetween = 16;
    for (unsigned n = 0; n < kMostInBetween; ++n) {
        const std::string type = content.text(box.at + 4, 4);
        const bool is_a_name = std::all_of(type.begin(), type.end(), [](char c) {
            return (c >= 'a' && c <= 'z') || (c >= 'A' && c <= 'Z') || (c >= '0' && c <= '9') || c == ' ';
        });
        if (!is_a_name || box.to_the_end || box.end > content.size()) return false;
        const auto next = box_at(content, box.end);
        if (!next) return false;
        if (is_one_of(content, next->at + 4, kTopBoxes) && !content.has(next->at + 4, "ftyp")) return true;
        box = *next;
    }
    return false;
}

// Whether the boxes within `box` fill it, down to the tables.
bool is_sound(Reader& content, const Box& box, unsigned depth) {
    return each_box(content, box.start, box.end, [&](const Box& inner) {
        if (depth >= kMaxDepth || !is_one_of(content, inner.at + 4, kParents)) return true;
        return is_sound(content, inner, depth + 1);
    });
}

std::optional<Box> child(Reader& content, const Box& box, std::string_view name) {
    std::optional<Box> found;
    each_box(content, box.start, box.end, [&](const Box& inner) {
        if (!found && content.has(inner.at + 4, name)) found = inner;
        return !found;
    });
    return found;
}

std::optional<Box> descendant(Reader& content, Box box, std::initializer_list<std::string_view> path) {
    for (const std::string_view name : path) {
        const auto inner = child(content, box, name);
        if (!inner) return std::nullopt;
        box = *inner;
    }
    return box;
}

// The samples of one track, in the order of their places in the file.
class Samples {
  public:
    Samples(Reader& content, const Box& track) : content_(content) {
        const auto table = descendant(content, track, {"mdia", "minf", "stbl"});
        if (!table) return;
        const auto sizes = child(content, *table, "stsz");
        const auto map = child(content, *table, "stsc");
        const auto near = child(content, *table, "stco");
        const auto far = child(content, *table, "co64");
        const auto kinds = child(content, *table, "stsd");
        if (!sizes || !map || !kinds || (!near && !far)) return;
        sizes_ = sizes->start;
        map_ = map->start;
        chunks_ = near ? near->start : far->start;
        wide_ = !near;
        fixed_size_ = content.u32be(sizes_ + 4);
        count_ = content.u32be(sizes_ + 8);
        chunk_count_ = content.u32be(chunks_ + 4);
        runs_ = content.u32be(map_ + 4);
        // A table that reaches out of its box tells nothing.
        const std::uint64_t chunks_end = near ? near->end : far->end;
        if (count_ > kMaxSamples || (fixed_size_ == 0 && sizes_ + 12 + 4 * count_ > sizes->end) ||
            chunks_ + 8 + (wide_ ? 8 : 4) * chunk_count_ > chunks_end || map_ + 8 + 12 * runs_ > map->end || runs_ == 0)
            count_ = 0;
        if (const auto entry = box_at(content, kinds->start + 8)) learn_units(*entry);
    }

    // Visits each sample; false where `visit` says so or the tables contradict each other.
    template <class Visit>
    bool each(const Visit& visit) {
        std::uint64_t sample = 0;
        std::uint64_t run = 0;
        for (std::uint64_t chunk = 0; chunk < chunk_count_ && sample < count_; ++chunk) {
            while (run + 1 < runs_ && content_.u32be(map_ + 8 + 12 * (run + 1)) <= chunk + 1) ++run;
            const std::uint64_t in_chunk = content_.u32be(map_ + 8 + 12 * run + 4);
            std::uint64_t at =
                wide_ ? content_.u64be(chunks_ + 8 + 8 * chunk) : content_.u32be(chunks_ + 8 + 4 * chunk);
            for (std::uint64_t i = 0; i < in_chunk && sample < count_; ++i, ++sample) {
                const std::uint64_t size = fixed_size_ != 0 ? fixed_size_ : content_.u32be(sizes_ + 12 + 4 * sample);
                if (at > std::uint64_t{1} << 50 || !visit(at, size)) return false;
                at += size;
            }
        }
        return sample == count_;
    }

    // Whether the content of a sample shows if it is one.
    bool can_be_checked() const { return unit_length_ != 0 || !start_.empty(); }
    // How far a sample makes sense: its units, each with its length before it, or the code that it begins with.
    std::uint64_t good_part(std::uint64_t at, std::uint64_t size) const {
        const std::uint64_t end = at + size;
        if (!start_.empty()) return size < start_.size() || content_.has(at, start_) ? end : at;
        while (at < end) {
            if (end - at < unit_length_ + 1) return at;
            std::uint64_t length = 0;
            for (unsigned i = 0; i < unit_length_; ++i) length = length << 8 | content_.u8(at + i);
            const unsigned head = content_.u8(at + unit_length_);
            if (length == 0 || length > end - at - unit_length_ || (head & 0x80U) != 0) return at;
            if (!hevc_ && ((head & 31U) == 0 || (head & 31U) > 23)) return at;
            // Slices are packed; text and zeros are not part of one.
            const bool is_slice = hevc_ ? (head >> 1) < 32 : (head & 31U) <= 5;
            if (is_slice)
                if (const auto plain = content_.first_plain_sector(at, at + unit_length_ + length)) return *plain;
            at += unit_length_ + length;
        }
        return end;
    }

  private:
    void learn_units(const Box& entry) {
        const std::uint64_t end = std::min(entry.end, content_.size());
        constexpr std::uint64_t kVisualEntry = 78;
        if (is_one_of(content_, entry.at + 4, "s263h263")) start_ = std::string_view("\0\0", 2);
        if (is_one_of(content_, entry.at + 4, "mp4v")) start_ = std::string_view("\0\0\1", 3);
        if (is_one_of(content_, entry.at + 4, "jpegmjpa")) start_ = "\xFF\xD8";
        if (is_one_of(content_, entry.at + 4, "avc1avc3hvc1hev1")) {
            hevc_ = is_one_of(content_, entry.at + 4, "hvc1hev1");
            each_box(content_, entry.start + kVisualEntry, end, [&](const Box& box) {
                if (content_.has(box.at + 4, "avcC")) unit_length_ = 1 + (content_.u8(box.start + 4) & 3U);
                if (content_.has(box.at + 4, "hvcC")) unit_length_ = 1 + (content_.u8(box.start + 21) & 3U);
                return true;
            });
        }
    }

    Reader& content_;
    std::uint64_t sizes_ = 0, map_ = 0, chunks_ = 0;  // the tables
    std::uint64_t count_ = 0, fixed_size_ = 0, chunk_count_ = 0, runs_ = 0;
    bool wide_ = false, hevc_ = false;
    std::string_view start_;
    unsigned unit_length_ = 0;
};

class BoxWalk {
  public:
    BoxWalk(Reader& content, const PartSink& parts) : content_(content), parts_(parts) {}

    Measured run() {
        std::uint64_t at = 0;
        std::string_view trouble;
        for (unsigned n = 0; n < kMaxBoxes; ++n) {
            const auto box = box_at(content_, at);
            if (!box || !(is_one_of(content_, at + 4, kTopBoxes) || (at > 0 && leads_on(content_, *box))) ||
                (at > 0 && content_.has(4, "ftyp") && content_.has(at + 4, "ftyp")))
                break;
            const bool fits = box->end <= content_.size();
            note(*box, fits);
            const std::uint64_t there = std::min(box->end, content_.size());
            if (parts_.is_wanted())
                parts_.tell({"box",
                             content_.text(at + 4, 4),
                             {{box->start, there - std::min(box->start, there)}},
                             Packing::none,
                             box->end - box->start,
                             fits ? Part::Check::none : Part::Check::wrong});
            if (box->to_the_end && (has_data_ || picture_)) return finish(at, *box);
            if (!fits) {
                trouble = "its end is missing";
                expected_ = box->end;
                break;
            }
            if (content_.has(at + 4, "moov") || content_.has(at + 4, "moof")) {
                if (!is_sound(content_, *box, 0)) {
                    trouble = "its index is damaged";
                    break;
                }
            }
            at = box->end;
        }
        end_ = at;
        return judged(trouble);
    }

  private:
    void note(const Box& box, bool fits) {
        const auto is = [&](std::string_view name) { return content_.has(box.at + 4, name); };
        if (is("mdat")) has_data_ = true, data_at_ = box.start;
        if (is("moov") && fits) movie_ = box;
        if (is("moof")) fragments_ = true;
        if (is("meta") && fits) meta_ = box;
        if (is("jp2c") || is("jxlc") || is("jxlp")) picture_ = true, data_at_ = box.start;
    }

    // The last box runs to the end of the file: only what it holds can tell where that is.
    Measured finish(std::uint64_t at, const Box& box) {
        if (movie_) {
            const std::uint64_t end = end_of_samples();
            if (end > at) {
                end_ = std::min(end, content_.size());
                return judged(end > content_.size() ? "its end is missing" : "");
            }
        }
        if (picture_ && content_.has(data_at_, "\xFF\x4F\xFF\x51")) {
            Measured stream = measure_codestream(content_, data_at_);
            if (stream.end == Measured::End::nonsense) return broken(data_at_, "the tiles make no sense", 0, name());
            stream.length += data_at_;
            stream.sure += data_at_;
            stream.format = name();
            return stream;
        }
        return data_at_ > 0 && movie_ ? open_ended(std::min(box.end, content_.size()), Proof::length, name())
                                      : nonsense();
    }

    std::uint64_t end_of_samples() {
        std::uint64_t end = 0;
        each_track([&](const Box& track) {
            Samples(content_, track).each([&](std::uint64_t at, std::uint64_t size) {
                end = std::max(end, at + size);
                return true;
            });
        });
        return end;
    }

    template <class Visit>
    void each_track(const Visit& visit) {
        each_box(content_, movie_->start, movie_->end, [&](const Box& box) {
            if (content_.has(box.at + 4, "trak")) visit(box);
            return true;
        });
    }

    Measured judged(std::string_view trouble) {
        const bool is_movie = movie_ && (has_data_ || fragments_);
        const bool is_picture = (meta_ && has_data_) || picture_;
        if (!is_movie && !is_picture) {
            // Without its index a film is only bytes; worth keeping where there are enough of them.
            const bool is_data = has_data_ && content_.has(4, "ftyp") && expected_ < std::uint64_t{1} << 36;
            if (!is_data || !is_believable_data()) return nonsense();
            return broken_between(data_at_, std::min(expected_ != 0 ? expected_ : end_, content_.size()), kNoIndex,
                                  expected_, name());
        }
        if (is_movie && !fragments_) {
            if (const auto bad = first_bad_sample()) {
                if (bad->offset < end_ || trouble.empty())
                    return broken_between(std::min(bad->offset, content_.size()), std::min(bad->end(), content_.size()),
                                          "the samples stop making sense", end_, name());
            }
        }
        if (!trouble.empty()) return broken(std::min(end_, content_.size()), trouble, expected_, name());
        if (picture_ && content_.has(4, "jP  ") && data_at_ != 0 && !content_.has(data_at_, "\xFF\x4F\xFF\x51"))
            return nonsense();
        const bool is_chain =
            checked_ > 0 || fragments_ || (picture_ && measure_codestream(content_, data_at_).is_whole());
        return whole(end_, is_chain ? Proof::chain : Proof::length, name());
    }

    // Frames are packed: text and zeros are not what an mdat holds.
    bool is_believable_data() {
        std::array<bool, 256> seen{};
        unsigned kinds = 0;
        for (unsigned i = 0; i < 2048; ++i) {
            bool& mark = seen[content_.u8(data_at_ + i)];
            kinds += mark ? 0 : 1;
            mark = true;
        }
        return kinds > 200 && content_.holds(data_at_, 65536);
    }

    // The first sample that lies beyond the end or is not made as its kind is.
    std::optional<Extent> first_bad_sample() {
        std::optional<Extent> bad;
        const auto worse = [&](std::uint64_t at, std::uint64_t end) {
            if (!bad || at < bad->offset) bad = Extent{at, end - std::min(at, end)};
        };
        each_track([&](const Box& track) {
            Samples samples(content_, track);
            samples.each([&](std::uint64_t at, std::uint64_t size) {
                if (!content_.holds(at, size) || at + size > std::max(end_, expected_)) {
                    worse(std::min(at, content_.size()), content_.size());
                    return false;
                }
                if (!samples.can_be_checked()) {
                    if (parts_.is_wanted()) parts_.tell({"sample", "", {{at, size}}, Packing::none, size});
                    return true;
                }
                ++checked_;
                const std::uint64_t good = samples.good_part(at, size);
                if (parts_.is_wanted())
                    parts_.tell({"sample",
                                 "",
                                 {{at, size}},
                                 Packing::none,
                                 size,
                                 good == at + size ? Part::Check::right : Part::Check::wrong});
                if (good != at + size) worse(at, good + 1);
                return good == at + size;
            });
        });
        return bad;
    }

    std::string_view name() {
        if (content_.has(4, "jP  ")) return "jpeg2000";
        if (content_.has(4, "JXL ")) return "jpegxl";
        if (!content_.has(4, "ftyp")) return "mov";
        const std::string brand = content_.text(8, 4);
        const std::string brands = content_.text(
            8, std::min<std::size_t>(content_.u32be(0), 256) - std::min<std::size_t>(content_.u32be(0), 8));
        if (brand == "qt  ") return "mov";
        if (brand == "crx ") return "cr3";
        if (brand == "avif" || brand == "avis") return "avif";
        if (brand.starts_with("M4A") || brand.starts_with("M4B") || brand.starts_with("M4P")) return "m4a";
        if (brand.starts_with("M4V")) return "m4v";
        if (brand.starts_with("3g")) return "3gp";
        if (brand.starts_with("he") || brand == "mif1" || brand == "msf1")
            return brands.find("avif") != std::string::npos ? "avif" : "heic";
        return is_only_heard() ? "m4a" : "mp4";
    }

    // What the handlers of its tracks say (8.4.3): sound, and nothing to be seen.
    bool is_only_heard() {
        bool has_sound = false, has_picture = false;
        if (!movie_) return false;
        each_box(content_, movie_->start, std::min(movie_->end, content_.size()), [&](const Box& track) {
            if (!content_.has(track.at + 4, "trak")) return true;
            if (const auto handler = descendant(content_, track, {"mdia", "hdlr"})) {
                has_sound = has_sound || content_.has(handler->start + 8, "soun");
                has_picture = has_picture || content_.has(handler->start + 8, "vide");
            }
            return true;
        });
        return has_sound && !has_picture;
    }

    Reader& content_;
    PartTeller parts_;
    std::optional<Box> movie_, meta_;
    bool has_data_ = false, fragments_ = false, picture_ = false;
    std::uint64_t data_at_ = 0, end_ = 0, expected_ = 0;
    std::uint64_t checked_ = 0;  // samples whose content was looked at
};

Measured take_boxes_apart(Reader& content, const PartSink& parts) { return BoxWalk(content, parts).run(); }

// The index that should stand behind the frames stands further on.
std::vector<std::uint64_t> gaps_of_film(Reader& content, const Measured& found) {
    constexpr std::uint64_t kFurthest = 64 << 20;
    std::vector<std::uint64_t> gaps;
    if (found.trouble != kNoIndex) return gaps;
    for (std::uint64_t at = found.length; gaps.size() < 8;) {
        const auto index = content.find("moov", at, std::min(content.size(), found.length + kFurthest));
        if (!index) break;
        if (*index >= found.length + 4 && (*index - 4 - found.length) % 512 == 0)
            gaps.push_back(*index - 4 - found.length);
        at = *index + 4;
    }
    return gaps;
}

// The index stands where the frames end.
std::optional<Landmark> index_of_film(Reader&, const Measured& found) {
    if (found.trouble != kNoIndex) return std::nullopt;
    return Landmark{found.expected != 0 ? found.expected : found.length, 4, "moov"};
}

Description describe_movie(Reader& content, std::uint64_t length) {
    Description said;
    for (std::uint64_t at = 0; at < length && content.ok();) {
        const auto box = box_at(content, at);
        if (!box) break;
        if (content.has(at + 4, "moov")) {
            if (const auto head = child(content, *box, "mvhd")) {
                constexpr std::int64_t kSince1904 = 2'082'844'800;  // seconds from 1904 to 1970
                const bool wide = content.u8(head->start) == 1;
                const std::uint64_t created = wide ? content.u64be(head->start + 4) : content.u32be(head->start + 4);
                const std::uint64_t scale = content.u32be(head->start + (wide ? 20 : 12));
                const std::uint64_t ticks = wide ? content.u64be(head->start + 24) : content.u32be(head->start + 16);
                if (created > static_cast<std::uint64_t>(kSince1904) && created < std::uint64_t{1} << 33)
                    said.date = FileTime{static_cast<std::int64_t>(created) - kSince1904, 0, FileTime::Clock::utc};
                if (scale != 0) said.facts.push_back({"duration", fmt::format("{} s", ticks / scale)});
            }
        }
        if (box->end <= at) break;
        at = box->end;
    }
    title_from_camera(said);
    return said;
}

constexpr std::string_view kEnding = "the last box, or the last sample";
constexpr std::string_view kFilmChecked = "the boxes, and the samples of most codecs";
constexpr std::string_view kPictureChecked = "the boxes";

}  // namespace

const std::vector<Format>& isobmff() {
    static const std::vector<Format> family = {
        {.name = "mp4",
         .kind = Kind::video,
         .extensions = {"mp4"},
         .signatures = {{{4, "ftyp"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .describe = describe_movie,
         .ending = kEnding,
         .checked = kFilmChecked},
        {.name = "heic",
         .kind = Kind::picture,
         .extensions = {"heic", "heif"},
         .signatures = {{{4, "ftyphei"sv}}, {{4, "ftypmif1"sv}}, {{4, "ftyphevc"sv}}, {{4, "ftypmsf1"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .ending = kEnding,
         .checked = kPictureChecked},
        {.name = "avif",
         .kind = Kind::picture,
         .extensions = {"avif"},
         .signatures = {{{4, "ftypavi"sv}}, {{4, "ftypmif1"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .ending = kEnding,
         .checked = kPictureChecked},
        {.name = "cr3",
         .kind = Kind::picture,
         .extensions = {"cr3"},
         .signatures = {{{4, "ftypcrx "sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .describe = describe_movie,
         .ending = kEnding,
         .checked = kFilmChecked},
        {.name = "jpeg2000",
         .kind = Kind::picture,
         .extensions = {"jp2", "jpf", "jpx"},
         .signatures = {{{0, "\0\0\0\x0CjP  \r\n\x87\n"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .ending = kEnding,
         .checked = kPictureChecked},
        {.name = "jpegxl",
         .kind = Kind::picture,
         .extensions = {"jxl"},
         .signatures = {{{0, "\0\0\0\x0CJXL \r\n\x87\n"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .ending = kEnding,
         .checked = kPictureChecked},
        {.name = "m4a",
         .kind = Kind::audio,
         .extensions = {"m4a", "m4b"},
         .signatures = {{{4, "ftypM4A"sv}}, {{4, "ftypM4B"sv}}, {{4, "ftyp"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .describe = describe_movie,
         .ending = kEnding,
         .checked = kFilmChecked},
        {.name = "mov",
         .kind = Kind::video,
         .extensions = {"mov", "qt"},
         .signatures = {{{4, "ftypqt  "sv}}, {{4, "moov"sv}}, {{4, "wide"sv}}, {{4, "mdat"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .describe = describe_movie,
         .ending = kEnding,
         .checked = kFilmChecked},
        {.name = "3gp",
         .kind = Kind::video,
         .extensions = {"3gp", "3g2"},
         .signatures = {{{4, "ftyp3g"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .describe = describe_movie,
         .ending = kEnding,
         .checked = kFilmChecked},
        {.name = "m4v",
         .kind = Kind::video,
         .extensions = {"m4v"},
         .signatures = {{{4, "ftypM4V"sv}}, {{4, "ftyp"sv}}},
         .measure = measure_by<take_boxes_apart>,
         .take_apart = take_boxes_apart,
         .gaps = gaps_of_film,
         .landmark = index_of_film,
         .describe = describe_movie,
         .ending = kEnding,
         .checked = kFilmChecked},
    };
    return family;
}

}  // namespace dredger::formats
