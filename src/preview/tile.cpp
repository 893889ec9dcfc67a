#include "preview/tile.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "base/whole_file.h"
#include "formats/compound_file.h"
#include "formats/format.h"
#include "preview/canvas.h"
#include "preview/compound.h"
#include "preview/decoders.h"
#include "preview/message_page.h"
#include "preview/sandbox.h"
#include "preview/text.h"

namespace dredger::preview {
namespace {

using Json = nlohmann::json;

constexpr int kPageSide = 1000;  // pixels of the longer side of a page that is to be read
constexpr std::uint32_t kPaper = 0xF6F3EC, kInk = 0x2B2A28, kPale = 0x8A857B, kSea = 0x1F6F8B;

std::optional<Picture> decoded(const Medium& content, const Candidate& candidate, int side) {
    auto picture = candidate.format == "jpeg" ? decode_jpeg(content, side) : std::nullopt;
    return picture ? picture : decode_picture(content, side);
}

// What was unpacked from a file, to be read like one.
class InMemory final : public Medium {
  public:
    explicit InMemory(std::span<const std::byte> bytes) : bytes_(bytes) {}
    std::uint64_t size() const override { return bytes_.size(); }
    std::uint32_t sector_size() const override { return 512; }
    std::string name() const override { return {}; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>&) const override {
        std::copy_n(bytes_.begin() + static_cast<std::ptrdiff_t>(offset), into.size(), into.begin());
        return {};
    }

  private:
    std::span<const std::byte> bytes_;
};

// What is known of the content after it was looked at, and the files that show it; empty: there is none.
struct Look {
    Tile tile;
    std::string picture, clip, page, message;
};

class TileMaker {
  public:
    TileMaker(const Medium& content, const Candidate& candidate, bool draws)
        : content_(content), candidate_(candidate), draws_(draws) {}

    Look run() {
        describe();
        if (candidate_.format == "pdf")
            page();
        else if (candidate_.kind == Kind::picture && candidate_.format != "svg")
            picture();
        else if (candidate_.kind == Kind::video)
            film();
        else if (candidate_.kind == Kind::audio)
            sound();
        else
            reading();
        return std::move(look_);
    }

  private:
    void describe() {
        const Format* format = format_named(candidate_.format);
        if (format == nullptr || !format->describe) return;
        Budget budget;
        Reader reader(content_, budget);
        const Description said = format->describe(reader, content_.size());
        if (!said.title.empty()) tile_.facts.push_back({"title", said.title});
        tile_.facts.insert(tile_.facts.end(), said.facts.begin(), said.facts.end());
    }

    void write(const Canvas& canvas) {
        if (draws_) look_.picture = canvas.png();
    }

    void write(const Picture& picture) {
        const double factor = std::min(
            {static_cast<double>(kTileWidth) / picture.width, static_cast<double>(kTileHeight) / picture.height, 1.0});
        const int width = std::max(1, static_cast<int>(std::lround(picture.width * factor)));
        const int height = std::max(1, static_cast<int>(std::lround(picture.height * factor)));
        Canvas canvas(width, height, kPaper);
        canvas.picture(picture, 0, 0, width, height);
        write(canvas);
    }

    void picture() {
        const auto picture = decoded(content_, candidate_, kTileWidth);
        if (!picture) return;
        if (picture->good_rows < picture->height)
            tile_.facts.push_back({"can be seen", fmt::format("{} % of the picture, from the top",
                                                              100 * picture->good_rows / picture->height)});
        tile_.likeness = likeness_of(*picture);
        write(*picture);
    }

    void film() {
        const Film film = decode_film(content_, 4, kTileWidth / 2);
        if (!film.described.empty()) tile_.facts.push_back({"video", film.described});
        if (film.seconds > 0) tile_.facts.push_back({"duration", fmt::format("{:.0f} s", film.seconds)});
        if (film.frames.empty()) return;
        constexpr double kHalfWidth = kTileWidth / 2.0, kHalfHeight = kTileHeight / 2.0;
        Canvas canvas(kTileWidth, kTileHeight, kInk);
        for (std::size_t i = 0; i < film.frames.size(); ++i)
            canvas.picture(film.frames[i], kHalfWidth * static_cast<double>(i % 2) + 2,
                           kHalfHeight * static_cast<double>(i / 2) + 2, kHalfWidth - 4, kHalfHeight - 4);
        tile_.likeness = likeness_of(film.frames.front());
        write(canvas);
    }

    void sound() {
        const auto sound = decode_sound(content_);
        if (!sound) return;
        tile_.facts.push_back({"sound", sound->described});
        tile_.facts.push_back({"duration", fmt::format("{:.0f} s", sound->seconds)});
        if (!draws_) return;
        Canvas canvas(kTileWidth, kTileHeight, kPaper);
        canvas.wave(sound->peaks, 16, 40, kTileWidth - 32, kTileHeight - 80, kSea);
        canvas.text(
            fmt::format("{}:{:02} min", static_cast<int>(sound->seconds) / 60, static_cast<int>(sound->seconds) % 60),
            16, kTileHeight - 32, kTileWidth - 32, 18, kPale);
        write(canvas);
        look_.clip = clip_of(*sound);
    }

    // RIFF WAVE, one channel of 16 bits.
    static std::string clip_of(const Sound& sound) {
        const auto bytes = static_cast<std::uint32_t>(sound.clip.size() * 2);
        std::string head;
        const auto number = [&](std::uint32_t value, int size) {
            for (int i = 0; i < size; ++i) head += static_cast<char>(value >> (8 * i) & 0xFFU);
        };
        head += "RIFF";
        number(36 + bytes, 4);
        head += "WAVEfmt ";
        number(16, 4);
        number(1, 2);
        number(1, 2);
        number(Sound::kRate, 4);
        number(2 * Sound::kRate, 4);
        number(2, 2);
        number(16, 2);
        head += "data";
        number(bytes, 4);
        for (const std::int16_t sample : sound.clip) number(static_cast<std::uint16_t>(sample), 2);
        return head;
    }

    // To be looked at, to be read, and its text to be searched.
    void page() {
        if (!draws_) {
            tile_.text = cut_to_characters(text_of_pages(content_, kMaxText));
            return;
        }
        const auto picture = decode_first_page(content_, kPageSide);
        if (!picture) return;
        write(*picture);
        Canvas whole(picture->width, picture->height, 0xFFFFFF);
        whole.picture(*picture, 0, 0, picture->width, picture->height);
        look_.page = whole.png();
        tile_.text = cut_to_characters(text_of_pages(content_, kMaxText));
    }

    void reading() {
        Budget budget;
        Reader reader(content_, budget);
        const Format* format = format_named(candidate_.format);
        std::optional<Picture> thumbnail;
        if (reader.has(0, "PK\3\4")) {
            tile_.text = office_text(reader);
            if (tile_.text.empty()) entries(reader);
            thumbnail = thumbnail_in(reader);
        } else if (reader.has(0, formats::CompoundFile::kMark)) {
            tile_.text = compound_text(reader, kMaxText);
        } else if (candidate_.format == "sqlite") {
            tile_.text = tables_of(content_);
        } else if (candidate_.format == "eml" || candidate_.format == "mbox") {
            tile_.text = text_of_mail(content_, kMaxText);
            if (candidate_.format == "eml" && draws_) look_.message = message_page(content_);
        } else if ((format != nullptr && format->is_text) || candidate_.format == "svg" || format == nullptr) {
            const bool is_markup = candidate_.format == "html" || candidate_.format == "xml";
            if (looks_like_text(reader)) tile_.text = plain_text(reader, is_markup);
        }
        if (draws_ && (!tile_.text.empty() || thumbnail)) draw_text(thumbnail);
    }

    static std::optional<Picture> thumbnail_in(Reader& reader) {
        const std::string packed = own_thumbnail(reader);
        if (packed.empty()) return std::nullopt;
        const InMemory content(std::as_bytes(std::span(packed)));
        auto picture = decode_jpeg(content, kTileHeight);
        return picture ? picture : decode_picture(content, kTileHeight);
    }

    static bool looks_like_text(Reader& reader) {
        const std::string start = reader.text(0, static_cast<std::size_t>(std::min<std::uint64_t>(512, reader.size())));
        if (start.starts_with("\xFF\xFE") || start.starts_with("\xFE\xFF")) return true;
        return std::none_of(start.begin(), start.end(), [](char c) {
            const auto byte = static_cast<unsigned char>(c);
            return byte < 0x20 && c != '\n' && c != '\r' && c != '\t' && c != '\f' && c != 0x1B;
        });
    }

    void entries(Reader& reader) {
        constexpr std::size_t kMax = 200;
        for (const Part& entry : entries_of(reader, kMax))
            tile_.text += fmt::format("{}  {}  {}\n",
                                      entry.check == Part::Check::right   ? "intact "
                                      : entry.check == Part::Check::wrong ? "damaged"
                                                                          : "unknown",
                                      printable(entry.name), entry.size);
    }

    // Beside the picture that a document carries of itself.
    void draw_text(const std::optional<Picture>& beside) {
        constexpr double kSize = 13, kLine = 17, kLetter = 6.3;  // pixels
        const double left = beside ? kTileWidth * 0.42 : 12;
        Canvas canvas(kTileWidth, kTileHeight, 0xFFFFFF);
        if (beside) canvas.picture(*beside, 12, 12, left - 24, kTileHeight - 24);
        double y = 10;
        std::size_t from = 0;
        while (from < tile_.text.size() && y < kTileHeight - kLine) {
            std::size_t end = std::min(tile_.text.find('\n', from), tile_.text.size());
            const std::size_t most = static_cast<std::size_t>((kTileWidth - left - 24) / kLetter);
            if (end - from > most) {
                end = from + most;
                // Between words, where there are any.
                if (const auto blank = tile_.text.rfind(' ', end); blank != std::string::npos && blank > from)
                    end = blank;
                while (end > from && (static_cast<unsigned char>(tile_.text[end]) & 0xC0U) == 0x80) --end;
            }
            std::string line = printable(tile_.text.substr(from, end - from));
            canvas.text(line, left, y, kTileWidth - left - 12, kSize, kInk);
            y += kLine;
            from = end < tile_.text.size() && (tile_.text[end] == '\n' || tile_.text[end] == ' ') ? end + 1 : end;
        }
        write(canvas);
    }

    const Medium& content_;
    const Candidate& candidate_;
    bool draws_;
    Look look_;
    Tile& tile_ = look_.tile;
};

std::string packed(const Look& look) {
    const auto file = [](const std::string& bytes) {
        return Json::binary(std::vector<std::uint8_t>(bytes.begin(), bytes.end()));
    };
    Json facts = Json::array();
    for (const Fact& fact : look.tile.facts) facts.push_back({fact.name, fact.value});
    const auto bytes = Json::to_cbor({{"picture", file(look.picture)},
                                      {"clip", file(look.clip)},
                                      {"page", file(look.page)},
                                      {"message", file(look.message)},
                                      {"text", look.tile.text},
                                      {"facts", facts},
                                      {"likeness", look.tile.likeness}});
    return {bytes.begin(), bytes.end()};
}

// None where it is not what packed() makes: the process that sent it may be anyone's by now.
std::optional<Look> unpacked(const std::string& bytes) {
    const Json json = Json::from_cbor(bytes, true, false);
    if (!json.is_object()) return std::nullopt;
    Look look;
    for (const auto& [name, file] : {std::pair("picture", &look.picture), std::pair("clip", &look.clip),
                                     std::pair("page", &look.page), std::pair("message", &look.message)}) {
        const auto found = json.find(name);
        if (found != json.end() && found->is_binary())
            file->assign(found->get_binary().begin(), found->get_binary().end());
    }
    if (const auto text = json.find("text"); text != json.end() && text->is_string()) look.tile.text = *text;
    if (const auto number = json.find("likeness"); number != json.end() && number->is_number_unsigned())
        look.tile.likeness = *number;
    if (const auto facts = json.find("facts"); facts != json.end() && facts->is_array())
        for (const Json& fact : *facts)
            if (fact.is_array() && fact.size() == 2 && fact[0].is_string() && fact[1].is_string())
                look.tile.facts.push_back({fact[0], fact[1]});
    return look;
}

// Whether there is such a file now.
bool keep(const std::string& bytes, const std::filesystem::path& file) {
    return !bytes.empty() && write_over(file, bytes).has_value();
}

}  // namespace

std::uint64_t likeness_in(const Medium& content, const Candidate& candidate) {
    constexpr int kSide = 64;  // pixels, more than enough
    load_decoders();
    const auto answer = run_apart(content, [&](const Medium& told) -> std::string {
        if (candidate.kind == Kind::video) {
            const Film film = decode_film(told, 1, kSide);
            return film.frames.empty() ? "0" : std::to_string(likeness_of(film.frames.front()));
        }
        const auto picture = decoded(told, candidate, kSide);
        return picture ? std::to_string(likeness_of(*picture)) : "0";
    });
    return answer ? std::strtoull(answer->c_str(), nullptr, 10) : 0;
}

Tile make_tile(const Medium& content, const Candidate& candidate, const std::filesystem::path& folder) {
    load_decoders();
    const bool draws = !folder.empty();
    const auto answer =
        run_apart(content, [&](const Medium& told) { return packed(TileMaker(told, candidate, draws).run()); });
    auto look = answer ? unpacked(*answer) : std::nullopt;
    if (!look) {
        Tile tile;
        tile.failed = true;
        return tile;
    }
    if (draws) {
        const std::string name = std::to_string(candidate.id);
        look->tile.has_picture = keep(look->picture, folder / "tiles" / (name + ".png"));
        look->tile.has_clip = keep(look->clip, folder / "clips" / (name + ".wav"));
        look->tile.has_page = keep(look->page, folder / "pages" / (name + ".png"));
        look->tile.has_message = keep(look->message, folder / "messages" / (name + ".html"));
    }
    return std::move(look->tile);
}

}  // namespace dredger::preview
