// What there is to see and hear in content, by the libraries that know each format. All of it runs on hostile bytes:
// call it within run_apart().
#pragma once

#include <optional>
#include <string>
#include <vector>

#include "media/medium.h"
#include "preview/picture.h"

namespace dredger::preview {

// Loads the libraries that know films. Before run_apart(), which would load them for each job again.
void load_decoders();

// What is not looked into because its libraries are not there, a sentence each, with the packages that have them.
std::vector<std::string> missing_decoders();

// A JPEG, reduced so that its longer side has at least `side` pixels where it can; the rows before the data stops
// making sense are good. None where not a single row can be decoded.
std::optional<Picture> decode_jpeg(const Medium& content, int side);

// The largest JPEG among the first within other content, as a camera's raw picture has one.
std::optional<Picture> decode_largest_jpeg(const Medium& content, int side);

// Any other picture that is known, or the preview that a camera put into its raw file.
std::optional<Picture> decode_picture(const Medium& content, int side);

// Frames at even distances, from the start of a video or animation; fewer where it is short or damaged.
struct Film {
    std::vector<Picture> frames;
    double seconds = 0;     // 0: not known
    std::string described;  // "h264, 640 x 360"
};
Film decode_film(const Medium& content, unsigned frames, int side);

struct Sound {
    static constexpr int kRate = 22'050;
    std::vector<float> peaks;        // loudness, 0 to 1, of every twentieth of a second
    std::vector<std::int16_t> clip;  // the first 20 seconds, one channel
    double seconds = 0;              // that could be decoded
    std::string described;
};
std::optional<Sound> decode_sound(const Medium& content);

// What there is to read in mail, up to about `most` bytes: of one message, or of the messages of a mailbox, with a form
// feed before each but the first.
std::string text_of_mail(const Medium& content, std::size_t most);

// The tables of an SQLite database, each with its rows counted and its columns; empty where it can't be read.
std::string tables_of(const Medium& content);

// Of a PDF, with its longer side of `side` pixels.
std::optional<Picture> decode_first_page(const Medium& content, int side);
// The text of a PDF's pages in UTF-8, up to about `most` bytes, with a form feed before each but the first.
std::string text_of_pages(const Medium& content, std::size_t most);

}  // namespace dredger::preview
