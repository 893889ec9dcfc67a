// Finds the samples of a film's tracks in its data, one behind the other, by what they are made of.
#pragma once

#include "repairing/film/data_window.h"
#include "repairing/film/sample_syntax.h"

namespace dredger::repairing {

struct SampleSearch {
    std::uint64_t found = 0;  // bytes in samples
    std::uint64_t lost = 0;   // bytes that belong to none
    std::size_t places = 0;   // at which it had to go on behind something
};

// Sets the samples of those tracks whose codec is known, from [from, to) of the content.
SampleSearch find_samples(std::vector<FilmTrack>& tracks, const Medium& content, std::uint64_t from, std::uint64_t to,
                          const std::function<bool()>& should_stop);

// Sets in which order samples are shown, where the codec tells.
void set_orders(FilmTrack& track, const Medium& content);

// How many of a track's samples, of some that are looked at, are what its codec makes; 1: all, or nothing shows it.
double share_of_right_samples(const FilmTrack& track, const Medium& content);
// Whether so many zeros stand in packed data that a part of it must be lost.
bool has_sector_of_zeros(std::span<const std::uint8_t> packed);
// Whether one sample is.
bool is_right_sample(const SampleSyntax& syntax, const FilmSample& sample, DataWindow& window);

}  // namespace dredger::repairing
