// The samples of films, told by their own syntax where no index tells of them.
#pragma once

#include <functional>
#include <memory>
#include <span>
#include <string_view>

#include "repairing/film/mp4/movie.h"

namespace dredger::repairing {

class SampleSyntax {
  public:
    virtual ~SampleSyntax() = default;

    // Bytes of the sample that begins `bytes`; 0 where none does, or it does not end within them.
    virtual std::size_t length(std::span<const std::uint8_t> bytes) const = 0;
    // Whether decoding can begin with it.
    virtual bool is_sync(std::span<const std::uint8_t> /*sample*/) const { return true; }
    // Whether one may begin with this byte, as those of most writers do.
    virtual bool may_begin(std::uint8_t /*byte*/) const { return true; }
    // Whether a sample that looks right hardly ever stands there by chance.
    virtual bool is_telling() const { return true; }
    // Sets when samples are shown, where that is not when they are decoded. `bytes_of` tells what a sample begins with.
    using BytesOf = std::function<std::span<const std::uint8_t>(const FilmSample&)>;
    virtual void set_order(std::vector<FilmSample>& /*samples*/, const BytesOf& /*bytes_of*/) const {}
    // Codecs whose samples end only where the next one begins: whether one begins so, and where in it, behind headers,
    // its picture does.
    virtual bool has_no_length() const { return false; }
    virtual bool begins(std::span<const std::uint8_t> /*bytes*/) const { return false; }
    virtual std::size_t picture_in(std::span<const std::uint8_t> /*bytes*/) const { return 0; }
};

// For the samples of a track; null where its codec is not known.
std::unique_ptr<SampleSyntax> syntax_of(const FilmTrack& track);

}  // namespace dredger::repairing
