#include "repairing/film/aac_frame.h"

#include <algorithm>
#include <vector>

#include "repairing/film/aac_tables.h"
#include "repairing/film/bit_reader.h"

namespace dredger::repairing {
namespace {

constexpr std::size_t kLongestFrame = 16 << 10;  // bytes; 6144 bits a channel is what decoders must take
constexpr unsigned kNoiseBook = 13, kIntensityBook = 14, kReservedBook = 12;
constexpr unsigned kWindows = 8;

class Frame {
  public:
    Frame(std::span<const std::uint8_t> bytes, const AacSetup& setup)
        : reader_(bytes.first(std::min(bytes.size(), kLongestFrame))), setup_(setup) {}

    std::size_t length() {
        unsigned channels = 0;
        while (reader_.ok()) {
            switch (reader_.bits(3)) {
                case 0:  // single channel element
                case 3:  // low frequency effects
                    reader_.skip(4);
                    ++channels;
                    if (!channel(false)) return 0;
                    break;
                case 1:  // channel pair element
                    channels += 2;
                    if (!pair()) return 0;
                    break;
                case 4: data(); break;
                case 5: program(); break;
                case 6: filling(); break;
                case 7:
                    reader_.align();
                    if (!reader_.ok() || channels == 0) return 0;
                    if (setup_.channels != 0 && setup_.channels <= 6 && channels != setup_.channels) return 0;
                    return reader_.at() / 8;
                default: return 0;  // coupling channels are in no film
            }
            if (channels > 8) return 0;
        }
        return 0;
    }

  private:
    // Of a channel, or of both of a pair (4.4.2.1, ics_info).
    struct Windows {
        bool is_short = false;
        unsigned bands = 0;                 // max_sfb
        std::vector<unsigned> groups;       // windows in each
        std::span<const std::uint16_t> at;  // where bands begin
    };

    bool windows() {
        if (reader_.bit()) return false;  // reserved
        Windows found;
        found.is_short = reader_.bits(2) == 2;
        reader_.skip(1);
        found.at = aac_bands(setup_.rate_index, found.is_short);
        if (found.is_short) {
            found.bands = reader_.bits(4);
            found.groups = {1};
            for (unsigned i = 1; i < kWindows; ++i) {
                if (reader_.bit())
                    ++found.groups.back();
                else
                    found.groups.push_back(1);
            }
        } else {
            found.bands = reader_.bits(6);
            found.groups = {1};
            if (reader_.bit()) return false;  // prediction is of other profiles
        }
        if (found.at.empty() || found.bands + 1 > found.at.size()) return false;
        windows_ = std::move(found);
        return true;
    }

    bool pair() {
        reader_.skip(4);
        const bool is_common = reader_.bit();
        if (is_common) {
            if (!windows()) return false;
            const std::uint32_t mask = reader_.bits(2);
            if (mask == 3) return false;
            if (mask == 1) reader_.skip(windows_.groups.size() * windows_.bands);
        }
        return channel(is_common) && channel(is_common);
    }

    bool channel(bool is_common) {
        const int gain = static_cast<int>(reader_.bits(8));
        if (!is_common && !windows()) return false;
        if (!sections() || !scalefactors(gain)) return false;
        if (reader_.bit()) {  // pulses
            if (windows_.is_short) return false;
            const unsigned count = reader_.bits(2) + 1;
            if (reader_.bits(6) >= windows_.at.size() - 1) return false;
            reader_.skip(std::size_t{count} * 9);
        }
        if (reader_.bit() && !noise_shaping()) return false;
        if (reader_.bit()) return false;  // gain control is of another profile
        return spectrum();
    }

    bool sections() {
        const unsigned bits = windows_.is_short ? 3 : 5;
        const unsigned all = (1U << bits) - 1;
        books_.assign(windows_.groups.size() * windows_.bands, 0);
        for (std::size_t group = 0; group < windows_.groups.size(); ++group)
            for (unsigned band = 0; band < windows_.bands;) {
                const unsigned book = reader_.bits(4);
                if (book == kReservedBook) return false;
                unsigned length = 0;
                unsigned more = all;
                while (more == all && reader_.ok()) {
                    more = reader_.bits(bits);
                    length += more;
                }
                if (length == 0 || length > windows_.bands - band || !reader_.ok()) return false;
                std::fill_n(books_.begin() + static_cast<std::ptrdiff_t>(group * windows_.bands + band), length, book);
                band += length;
            }
        return reader_.ok();
    }

    bool scalefactors(int gain) {
        int noise = gain - 90;
        int position = 0;
        bool is_first_noise = true;
        for (const unsigned book : books_) {
            if (book == 0) continue;
            if (book == kNoiseBook && is_first_noise) {
                noise += static_cast<int>(reader_.bits(9)) - 256;
                is_first_noise = false;
                continue;
            }
            const int symbol = decode(kAacCodebooks[0]);
            if (symbol < 0) return false;
            int& value = book == kNoiseBook ? noise : book >= kIntensityBook ? position : gain;
            value += symbol - 60;
            if (book < kNoiseBook && (value < 0 || value > 255)) return false;
            if (book != kNoiseBook && std::abs(value) > 255) return false;
        }
        return reader_.ok();
    }

    bool noise_shaping() {
        const bool is_short = windows_.is_short;
        for (unsigned window = 0; window < (is_short ? kWindows : 1); ++window) {
            const unsigned filters = reader_.bits(is_short ? 1 : 2);
            if (filters == 0) continue;
            const unsigned resolution = reader_.bits(1);
            for (unsigned i = 0; i < filters; ++i) {
                reader_.skip(is_short ? 4 : 6);
                const unsigned order = reader_.bits(is_short ? 3 : 5);
                if (order > (is_short ? 7U : 20U)) return false;
                if (order == 0) continue;
                reader_.skip(1);
                const unsigned compressed = reader_.bits(1);
                reader_.skip(std::size_t{order} * (3 + resolution - compressed));
            }
        }
        return reader_.ok();
    }

    // The coefficients of one band come in the windows of its group, four or two at a time (4.6.3.3).
    bool spectrum() {
        for (std::size_t group = 0; group < windows_.groups.size(); ++group)
            for (unsigned band = 0; band < windows_.bands; ++band) {
                const unsigned book = books_[group * windows_.bands + band];
                if (book == 0 || book >= kNoiseBook) continue;
                const unsigned width = unsigned{windows_.at[band + 1]} - windows_.at[band];
                const unsigned tuples = width * windows_.groups[group] / (book < 5 ? 4 : 2);
                for (unsigned i = 0; i < tuples; ++i)
                    if (!tuple(book)) return false;
            }
        return reader_.ok();
    }

    bool tuple(unsigned book) {
        constexpr unsigned kBase[] = {0, 3, 3, 3, 3, 9, 9, 8, 8, 13, 13, 17};  // values that one of a tuple can have
        constexpr bool kIsSigned[] = {false, true, true, false, false, true, true, false, false, false, false, false};
        const int symbol = decode(kAacCodebooks[book]);
        if (symbol < 0) return false;
        if (kIsSigned[book]) return true;
        unsigned rest = static_cast<unsigned>(symbol);
        unsigned escapes = 0;
        for (unsigned i = 0; i < (book < 5 ? 4U : 2U); ++i, rest /= kBase[book]) {
            if (rest % kBase[book] != 0) reader_.skip(1);
            if (book == 11 && rest % kBase[book] == 16) ++escapes;
        }
        for (; escapes > 0; --escapes) {
            unsigned ones = 0;
            while (reader_.ok() && reader_.bit()) ++ones;
            if (ones > 8) return false;
            reader_.skip(ones + 4);
        }
        return reader_.ok();
    }

    int decode(const AacCodebook& book) {
        std::uint32_t code = 0;
        std::uint32_t first = 0;
        std::size_t index = 0;
        for (const std::uint16_t count : book.counts) {
            code = code << 1 | reader_.bits(1);
            first <<= 1;
            if (code - first < count) return book.symbols[index + code - first];
            index += count;
            first += count;
        }
        return -1;
    }

    void data() {
        reader_.skip(4);
        const bool is_aligned = reader_.bit();
        std::uint32_t count = reader_.bits(8);
        if (count == 255) count += reader_.bits(8);
        if (is_aligned) reader_.align();
        reader_.skip(std::size_t{count} * 8);
    }

    void program() {
        reader_.skip(4 + 2 + 4);
        const std::uint32_t front = reader_.bits(4), side = reader_.bits(4), back = reader_.bits(4),
                            low = reader_.bits(2), associated = reader_.bits(3), coupled = reader_.bits(4);
        for (const unsigned mixdown : {4U, 4U, 3U})
            if (reader_.bit()) reader_.skip(mixdown);
        reader_.skip(5 * (front + side + back + coupled) + 4 * (low + associated));
        reader_.align();
        const std::uint32_t comment = reader_.bits(8);
        reader_.skip(std::size_t{comment} * 8);
    }

    void filling() {
        std::uint32_t count = reader_.bits(4);
        if (count == 15) count += reader_.bits(8) - 1;
        reader_.skip(std::size_t{count} * 8);
    }

    BitReader reader_;
    const AacSetup& setup_;
    Windows windows_;
    std::vector<unsigned> books_;  // of each band of each group
};

}  // namespace

std::optional<AacSetup> aac_setup(std::span<const std::uint8_t> configuration) {
    BitReader reader(configuration);
    unsigned type = reader.bits(5);
    if (type == 31) type = 32 + reader.bits(6);
    AacSetup setup;
    setup.rate_index = reader.bits(4);
    if (setup.rate_index == 15) return std::nullopt;
    setup.channels = reader.bits(4);
    if (setup.channels == 7) setup.channels = 8;
    // Spectral band replication lies within the frames' filling.
    if (type == 5 || type == 29) {
        if (reader.bits(4) == 15) reader.skip(24);
        type = reader.bits(5);
    }
    if (type != 2 || !reader.ok() || setup.rate_index > 12) return std::nullopt;
    if (reader.bit()) return std::nullopt;  // frames of 960 samples
    return setup;
}

std::size_t aac_frame_length(std::span<const std::uint8_t> bytes, const AacSetup& setup) {
    return Frame(bytes, setup).length();
}

}  // namespace dredger::repairing
