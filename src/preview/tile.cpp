#include "preview/tile.h"

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <nlohmann/json.hpp>

#include "base/text.h"
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

class TileMaker {
  public:
    TileMaker(const Medium& content, const Candidate& candidate, const std::filesystem::path& folder)
        : content_(content), candidate_(candidate), folder_(folder), name_(std::to_string(candidate.id)) {}

    Tile run() {
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
        return std::move(tile_);
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
        tile_.has_picture = !folder_.empty() && canvas.write_png(folder_ / "tiles" / (name_ + ".png"));
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
        if (folder_.empty()) return;
        Canvas canvas(kTileWidth, kTileHeight, kPaper);
        canvas.wave(sound->peaks, 16, 40, kTileWidth - 32, kTileHeight - 80, kSea);
        canvas.text(
            fmt::format("{}:{:02} min", static_cast<int>(sound->seconds) / 60, static_cast<int>(sound->seconds) % 60),
            16, kTileHeight - 32, kTileWidth - 32, 18, kPale);
        write(canvas);
        tile_.has_clip = write_clip(*sound);
    }

    // RIFF WAVE, one channel of 16 bits.
    bool write_clip(const Sound& sound) const {
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
        std::ofstream out(folder_ / "clips" / (name_ + ".wav"), std::ios::binary);
        out.write(head.data(), static_cast<std::streamsize>(head.size()));
        return static_cast<bool>(out);
    }

    // To be looked at, to be read, and its text to be searched.
    void page() {
        if (folder_.empty()) {
            tile_.text = cut_to_characters(text_of_pages(content_, kMaxText));
            return;
        }
        const auto picture = decode_first_page(content_, kPageSide);
        if (!picture) return;
        write(*picture);
        Canvas whole(picture->width, picture->height, 0xFFFFFF);
        whole.picture(*picture, 0, 0, picture->width, picture->height);
        tile_.has_page = whole.write_png(folder_ / "pages" / (name_ + ".png"));
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
            if (candidate_.format == "eml" && !folder_.empty()) message();
        } else if ((format != nullptr && format->is_text) || candidate_.format == "svg" || format == nullptr) {
            const bool is_markup = candidate_.format == "html" || candidate_.format == "xml";
            if (looks_like_text(reader)) tile_.text = plain_text(reader, is_markup);
        }
        if (!folder_.empty() && (!tile_.text.empty() || thumbnail)) draw_text(thumbnail);
    }

    void message() {
        const std::string page = message_page(content_);
        std::ofstream out(folder_ / "messages" / (name_ + ".html"), std::ios::binary);
        out << page;
        tile_.has_message = !page.empty() && out;
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
    const std::filesystem::path& folder_;
    std::string name_;
    Tile tile_;
};

std::string packed(const Tile& tile) {
    Json facts = Json::array();
    for (const Fact& fact : tile.facts) facts.push_back({fact.name, fact.value});
    return Json{{"picture", tile.has_picture}, {"clip", tile.has_clip}, {"page", tile.has_page},
                {"message", tile.has_message}, {"text", tile.text},     {"facts", facts},
                {"likeness", tile.likeness}}
        .dump(-1, ' ', false, Json::error_handler_t::replace);
}

Tile unpacked(const std::string& text) {
    Tile tile;
    const Json json = Json::parse(text, nullptr, false);
    if (!json.is_object()) {
        tile.failed = true;
        return tile;
    }
    tile.has_picture = json.value("picture", false);
    tile.has_clip = json.value("clip", false);
    tile.has_page = json.value("page", false);
    tile.has_message = json.value("message", false);
    tile.text = json.value("text", std::string());
    tile.likeness = json.value("likeness", std::uint64_t{0});
    const Json facts = json.value("facts", Json::array());
    for (const Json& fact : facts) tile.facts.push_back({fact.at(0).get<std::string>(), fact.at(1).get<std::string>()});
    return tile;
}

}  // namespace

std::uint64_t likeness_in(const Medium& content, const Candidate& candidate) {
    constexpr int kSide = 64;  // pixels, more than enough
    load_decoders();
    const auto answer = run_apart([&]() -> std::string {
        if (candidate.kind == Kind::video) {
            const Film film = decode_film(content, 1, kSide);
            return film.frames.empty() ? "0" : std::to_string(likeness_of(film.frames.front()));
        }
        const auto picture = decoded(content, candidate, kSide);
        return picture ? std::to_string(likeness_of(*picture)) : "0";
    });
    return answer ? std::strtoull(answer->c_str(), nullptr, 10) : 0;
}

Tile make_tile(const Medium& content, const Candidate& candidate, const std::filesystem::path& folder) {
    load_decoders();
    const auto answer = run_apart([&] { return packed(TileMaker(content, candidate, folder).run()); });
    if (answer) return unpacked(*answer);
    Tile tile;
    tile.failed = true;
    return tile;
}

}  // namespace dredger::preview
