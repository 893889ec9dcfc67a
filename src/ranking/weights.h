// The figures that prospects are made of, in one place. `bench/accuracy.py --calibration --reasons` tells what finds
// with each reason were worth on media whose truth is known; docs/prospect.md says how they are put together.
#pragma once

namespace dredger {

// What is left to hope for, as a factor, when a record shows this.
struct RecordWeights {
    double newer_claim = 0.1;     // of the bytes that a newer deleted file claims, the share still hoped for
    double behind_end = 0.7;      // the same of bytes in another file's last cluster, behind where that ends
    double head_disagrees = 0.1;  // something else stands where the file began
    double head_blank = 0.02;     // wiped, trimmed, or never written
    double head_unknown = 0.93;
    double head_fits = 0.97;
    double layout_assumed = 0.99;    // in one piece: files mostly are
    double layout_in_pieces = 0.85;  // around what was there: plausible, but nothing proves it
    double pieces_with_tail = 0.97;  // ... except an end that fits
    double tail_foreign = 0.5;
    double record_damaged = 0.6;
    double encrypted = 0.1;  // the bytes come back, but not what they mean
};
inline constexpr RecordWeights kRecordWeights;

// The prospect, 0 to 100, that content has by what proves it. What nothing proves stays below sound, however often it
// was right: its middle may be another file's.
struct ContentWeights {
    int checksums = 99;
    int structure = 94;
    int chain = 87;        // its parts follow one upon the other, and nothing checks what is in them
    int length = 87;       // a header tells the length, and nothing what lies in between
    int joined = 84;       // pieces that fit, but that no checksum proves
    int open_padded = 86;  // no end mark, but zeros follow
    int open = 74;
    int open_text = 87;  // characters, up to where zeros follow
    int broken_most = 87;
    int broken_least = 15;    // its start, at least, is there
    int followed = 80;        // something else than zeros stands in its last sector behind its end
    int broken_unknown = 44;  // nothing tells how much is missing
};
inline constexpr ContentWeights kContentWeights;

}  // namespace dredger
