// PNG (W3C Portable Network Graphics, third edition): chunks get right checksums, a lost header is found by trial, and
// the rows that can be unpacked are kept; what is not known is grey.
#include <algorithm>
#include <fmt/format.h>
#include <zlib.h>

#include "base/digest.h"
#include "base/stream_decoder.h"
#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::string_view kMark = "\x89PNG\r\n\x1A\n"sv;
constexpr std::uint64_t kLargestPicture = 1 << 30;  // bytes of its rows
constexpr char kGrey = static_cast<char>(0x80);

struct Header {
    std::uint32_t width = 0, height = 0;
    unsigned depth = 8, kind = 2;  // bits of a sample, and the number of the colour type (11.2.1)
    bool is_interlaced = false;

    unsigned samples() const { return kind == 2 ? 3 : kind == 4 ? 2 : kind == 6 ? 4 : 1; }
    std::uint64_t row() const {
        return 1 + (std::uint64_t{width} * samples() * depth + 7) / 8;
    }  // bytes, with its filter
    // Of the passes of an interlaced picture together (8.2, Adam7).
    std::uint64_t bytes_of_passes() const {
        constexpr unsigned kFirstColumn[] = {0, 4, 0, 2, 0, 1, 0}, kFirstRow[] = {0, 0, 4, 0, 2, 0, 1};
        constexpr unsigned kColumns[] = {8, 8, 4, 4, 2, 2, 1}, kRows[] = {8, 8, 8, 4, 4, 2, 2};
        std::uint64_t bytes = 0;
        for (std::size_t pass = 0; pass < 7; ++pass) {
            if (width <= kFirstColumn[pass] || height <= kFirstRow[pass]) continue;
            Header part = *this;
            part.width = (width - kFirstColumn[pass] + kColumns[pass] - 1) / kColumns[pass];
            bytes += part.row() * ((height - kFirstRow[pass] + kRows[pass] - 1) / kRows[pass]);
        }
        return bytes;
    }
    bool is_sane() const {
        const bool has_depth = kind == 0   ? depth == 1 || depth == 2 || depth == 4 || depth == 8 || depth == 16
                               : kind == 3 ? depth == 1 || depth == 2 || depth == 4 || depth == 8
                                           : depth == 8 || depth == 16;
        return width > 0 && height > 0 && has_depth &&
               (kind == 0 || kind == 2 || kind == 3 || kind == 4 || kind == 6) && row() * height <= kLargestPicture;
    }
    std::string bytes() const {
        const std::string last = {static_cast<char>(depth), static_cast<char>(kind), 0, 0, is_interlaced ? '\1' : '\0'};
        return big32(width) + big32(height) + last;
    }
};

std::string chunk(std::string_view name, const std::string& holds) {
    const std::string inside = fmt::format("{}{}", name, holds);
    return fmt::format("{}{}{}", big32(static_cast<std::uint32_t>(holds.size())), inside,
                       big32(crc32(std::as_bytes(std::span(inside)))));
}

class PngMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "png";
        done_.unit = "rows";
        const Measured found = measured(file_, "png", bench_);
        read();
        if (shows_no_damage(found)) {
            done_.kept = done_.of = header_ ? header_->height : 0;
            return as_it_is(file_, bench_, std::move(done_));
        }
        unpack();
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (!header_ && !guess_header()) {
            done_.what.emplace_back(rows_.empty() ? "none of its picture data can be unpacked"
                                                  : "its header is lost, and no size goes with its rows");
            return std::move(done_);
        }
        return write();
    }

  private:
    // Chunks that stand, one behind the other; behind damage the next one that can be found.
    void read() {
        constexpr std::string_view kKept[] = {"PLTE", "tRNS", "gAMA", "cHRM", "sRGB", "iCCP", "pHYs",
                                              "tEXt", "iTXt", "zTXt", "eXIf", "tIME", "bKGD", "sBIT"};
        std::uint64_t at = content_.has(0, kMark) ? 8 : 0;
        while (content_.holds(at, 12) && !content_.budget().is_spent()) {
            const std::uint64_t length = content_.u32be(at);
            const std::string name = content_.text(at + 4, 4);
            const bool is_known = name == "IHDR" || name == "IDAT" || name == "IEND" ||
                                  std::find(std::begin(kKept), std::end(kKept), name) != std::end(kKept);
            if (!is_known || length > 0x7FFFFFFF || (name != "IDAT" && !content_.holds(at, 12 + length))) {
                at = next_chunk(at + 1);
                continue;
            }
            const bool is_there = content_.holds(at, 12 + length);
            const std::uint64_t inside = is_there ? length : content_.size() - at - 8;
            if (name == "IHDR" && length == 13) {
                Header header{content_.u32be(at + 8), content_.u32be(at + 12), content_.u8(at + 16),
                              content_.u8(at + 17), content_.u8(at + 20) == 1};
                if (header.is_sane()) header_ = header;
            } else if (name == "IDAT") {
                // One that does not end where another chunk begins is longer than it says, or damaged: up to the next
                // one.
                pixels_.push_back({at + 8, inside});
            } else if (name != "IEND" && length < (1 << 20)) {
                kept_ += chunk(name, content_.text(at + 8, static_cast<std::size_t>(length)));
            }
            if (name == "IEND") {
                has_end_ = true;
                return;
            }
            at += 12 + inside;
        }
    }

    std::uint64_t next_chunk(std::uint64_t at) {
        std::uint64_t next = content_.size();
        for (const std::string_view name : {"IHDR"sv, "PLTE"sv, "IDAT"sv, "IEND"sv})
            if (const auto found = content_.find(name, at + 4, next)) next = *found;
        return next == content_.size() ? next : next - 4;
    }

    // As many rows as come out before the packed data stops making sense.
    void unpack() {
        StreamDecoder decoder(Packing::zlib);
        auto state = StreamDecoder::State::going;
        for (const Extent& piece : pixels_) {
            for (std::uint64_t at = piece.offset; at < piece.end() && state == StreamDecoder::State::going;) {
                auto here = content_.some(at);
                here = here.first(static_cast<std::size_t>(std::min<std::uint64_t>(here.size(), piece.end() - at)));
                const bool is_hole = file_.touches_hole(at, here.size());
                if (here.empty() || is_hole || rows_.size() > kLargestPicture) return;
                std::size_t used = 0;
                state = decoder.feed(here, used, [&](std::span<const std::byte> out) {
                    rows_.append(reinterpret_cast<const char*>(out.data()), out.size());
                });
                at += used;
                if (used == 0) return;
            }
            if (state != StreamDecoder::State::going) break;
        }
        is_complete_ = state == StreamDecoder::State::ended;
    }

    // How much the first rows differ from each other, byte by byte, when their filters are undone (9.2) as for pixels
    // of so many bytes: with another number nonsense comes out.
    double roughness_of(std::uint64_t row, std::uint64_t pixel) const {
        constexpr std::uint64_t kRows = 64;
        std::vector<int> before(static_cast<std::size_t>(row - 1));
        std::vector<int> now(before.size());
        double sum = 0;
        const std::uint64_t count = std::min<std::uint64_t>(kRows, rows_.size() / row);
        for (std::uint64_t y = 0; y < count; ++y) {
            const std::string_view packed = std::string_view(rows_).substr(static_cast<std::size_t>(y * row));
            for (std::size_t x = 0; x < now.size(); ++x) {
                const int left = x >= pixel ? now[x - static_cast<std::size_t>(pixel)] : 0;
                const int above = before[x];
                const int corner = x >= pixel ? before[x - static_cast<std::size_t>(pixel)] : 0;
                const int guess = left + above - corner;
                const int far_left = std::abs(guess - left), far_above = std::abs(guess - above),
                          far_corner = std::abs(guess - corner);
                const int paeth = far_left <= far_above && far_left <= far_corner ? left
                                  : far_above <= far_corner                       ? above
                                                                                  : corner;
                const int predicted[] = {0, left, above, (left + above) / 2, paeth};
                now[x] =
                    (static_cast<unsigned char>(packed[x + 1]) + predicted[static_cast<unsigned char>(packed[0])]) &
                    255;
                if (y > 0) sum += std::min(std::abs(now[x] - above), 256 - std::abs(now[x] - above));
            }
            std::swap(before, now);
        }
        return sum / static_cast<double>(std::max<std::uint64_t>(1, count - 1) * (row - 1));
    }

    // Each row begins with the number of its filter: at the right length of rows all of these are 0 to 4.
    bool guess_header() {
        if (rows_.size() < 64 || !is_complete_) return false;
        struct Guess {
            Header header;
            double roughness = 0;
        };
        std::optional<Guess> best;
        constexpr std::pair<unsigned, unsigned> kUsual[] = {{2, 8}, {6, 8},  {0, 8},  {3, 8},
                                                            {4, 8}, {2, 16}, {6, 16}, {0, 16}};
        const bool has_palette = kept_.find("PLTE") != std::string::npos;
        for (std::uint64_t row = 9; row <= rows_.size() / 4; ++row) {
            if (rows_.size() % row != 0) continue;
            bool fits = true;
            for (std::uint64_t at = 0; at < rows_.size() && fits; at += row)
                fits = static_cast<unsigned char>(rows_[at]) <= 4;
            if (!fits) continue;
            const std::uint64_t count = rows_.size() / row;
            for (const auto& [kind, depth] : kUsual) {
                Header header{0, static_cast<std::uint32_t>(count), depth, kind};
                const std::uint64_t pixel = header.samples() * depth / 8;
                if ((row - 1) % pixel != 0 || (kind == 3) != has_palette) continue;
                header.width = static_cast<std::uint32_t>((row - 1) / pixel);
                if (header.width > 8 * count || count > 8 * std::uint64_t{header.width}) continue;
                const double roughness = roughness_of(row, pixel);
                if (!best || roughness < best->roughness) best = Guess{header, roughness};
            }
        }
        if (!best) return false;
        header_ = best->header;
        done_.what.emplace_back("its header is lost: size and kind of colour are those at which its rows make sense");
        return true;
    }

    Result<Mended> write() {
        const std::uint64_t row = header_->row();
        const std::uint64_t all = header_->is_interlaced ? rows_.size() : row * header_->height;
        done_.of = header_->height;
        done_.kept = header_->is_interlaced ? (is_complete_ ? done_.of : 0)
                                            : std::min<std::uint64_t>(rows_.size() / row, done_.of);
        if (rows_.empty()) {
            done_.what.emplace_back("none of its picture data can be unpacked");
            return std::move(done_);
        }
        if (header_->is_interlaced && !is_complete_) {
            done_.what.emplace_back("it came in passes, the last of which are lost: what stands of it is coarse");
            rows_.resize(static_cast<std::size_t>(header_->bytes_of_passes()), '\0');
        }
        if (!header_->is_interlaced)
            rows_.resize(static_cast<std::size_t>(std::min<std::uint64_t>(done_.kept * row, rows_.size())));
        while (rows_.size() < all) {
            rows_.push_back('\0');
            rows_.append(static_cast<std::size_t>(row - 1), header_->kind == 3 ? '\0' : kGrey);
        }
        uLongf size = compressBound(static_cast<uLong>(rows_.size()));
        std::string packed(size, '\0');
        if (compress2(reinterpret_cast<Bytef*>(packed.data()), &size, reinterpret_cast<const Bytef*>(rows_.data()),
                      static_cast<uLong>(rows_.size()), Z_DEFAULT_COMPRESSION) != Z_OK)
            return std::move(done_);
        packed.resize(size);
        DREDGER_TRY(Output output, bench_.output());
        output.add(kMark);
        output.add(chunk("IHDR", header_->bytes()));
        output.add(kept_);
        output.add(chunk("IDAT", packed));
        output.add(chunk("IEND", ""));
        const bool all_known = done_.kept == done_.of;
        if (!all_known && !header_->is_interlaced)
            done_.what.push_back(fmt::format("{} rows at the end are lost and grey", done_.of - done_.kept));
        if (!is_complete_ && all_known) done_.what.emplace_back("the checksum of its picture data is missing");
        if (!has_end_) done_.what.emplace_back("its end is missing");
        if (done_.what.empty()) done_.what.emplace_back("its chunks and their checksums were made anew");
        done_.outcome = all_known && is_complete_ ? Outcome::mended : Outcome::partly;
        return finished(std::move(output), std::move(done_));
    }

    std::optional<Header> header_;
    std::vector<Extent> pixels_;  // of the content: what the chunks of picture data hold
    std::string kept_;            // other chunks
    std::string rows_;
    bool is_complete_ = false, has_end_ = false;
};

}  // namespace

const Mender& png_mender() {
    static const Mender mender = {"PNG",
                                  {"png"},
                                  "header, checksums, end",
                                  [](const Damaged& file) {
                                      Budget budget;
                                      Reader content(*file.content, budget);
                                      unsigned bits = extension_of(file.name) == "png" ? 1 : 0;
                                      for (const std::string_view name : {"IHDR"sv, "IDAT"sv, "IEND"sv})
                                          if (content.find(name, 0, content.size())) bits += 20;
                                      return bits;
                                  },
                                  [](const Damaged& file, Workbench& bench) { return PngMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
