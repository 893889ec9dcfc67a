// What files of a format look like: the seam behind which each format family is one file and one line of registry.cpp.
#pragma once

#include <algorithm>
#include <cstdint>
#include <functional>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/agreement.h"
#include "base/bytes.h"
#include "base/fact.h"
#include "base/times.h"
#include "formats/part.h"
#include "formats/reader.h"

namespace dredger {

enum class Kind { picture, video, audio, document, archive, mail, database, other };

inline constexpr std::string_view kKindWords[] = {"picture", "video", "audio",    "document",
                                                  "archive", "mail",  "database", "other"};

inline std::string_view word_for(Kind kind) { return kKindWords[static_cast<std::size_t>(kind)]; }
std::optional<Kind> kind_from_word(std::string_view word);

// Bytes that stand at a fixed place of every file of a format.
struct Signature {
    std::size_t offset;  // bytes from the start of the file
    std::string_view bytes;
};

// How far the content itself proves that it is what it seems to be.
enum class Proof {
    none,
    length,     // a header tells how long it is; nothing checks what lies in between
    chain,      // its parts follow one upon the other up to the end; nothing checks what is in them
    structure,  // the same, and what is in them makes sense, so that damage anywhere would show
    checksums,  // checksums, or a full decode, agree
};

// What walking content from its start found.
struct Measured {
    enum class End {
        nonsense,  // it only looked like a file
        broken,    // it is one, but makes sense up to `length` only; with Proof::none only if the rest can be found
        open,      // it makes sense up to `length`, and nothing says whether more belonged to it
        whole,     // it ends at `length`
        gave_up,   // somebody asked to stop, or following it cost more than its bytes can be worth
    };
    End end = End::nonsense;
    std::uint64_t length = 0;   // bytes
    Proof proof = Proof::none;  // of what lies before `length`
    std::uint64_t sure = 0;     // where it is broken: what lies before this is right, and it goes wrong before `length`
    std::uint64_t expected = 0;  // bytes that it says it has, where it is broken; 0: it does not say
    bool has_its_end = false;    // where it is broken: it ends at `expected` all the same
    std::string_view format;     // the finer format that its content shows; empty: the one that was measured
    std::string_view trouble;    // why it is broken
    bool is_whole() const { return end == End::whole; }
    bool is_contradicted() const { return end == End::broken && proof == Proof::length && has_its_end; }
    bool is_file() const { return end != End::nonsense && end != End::gave_up; }
    // Nothing behind its beginning makes sense: worth listing only if the rest is found.
    bool is_lone_head() const { return end == End::broken && proof == Proof::none; }
};

inline Measured nonsense() { return {}; }
inline Measured whole(std::uint64_t length, Proof proof, std::string_view format = {}) {
    return {Measured::End::whole, length, proof, length, 0, false, format, {}};
}
inline Measured open_ended(std::uint64_t length, Proof proof, std::string_view format = {}) {
    return {Measured::End::open, length, proof, length, 0, false, format, {}};
}
inline Measured broken(std::uint64_t length, std::string_view trouble, std::uint64_t expected = 0,
                       std::string_view format = {}) {
    return {Measured::End::broken, length, Proof::structure, length, expected, false, format, trouble};
}
// Something between `sure` and `length` is wrong.
inline Measured broken_between(std::uint64_t sure, std::uint64_t length, std::string_view trouble,
                               std::uint64_t expected = 0, std::string_view format = {}) {
    return {Measured::End::broken, length, Proof::structure, std::min(sure, length), expected, false, format, trouble};
}

// It ends where it says, and something before that is wrong: nothing shows where.
inline Measured contradicted(std::uint64_t sure, std::uint64_t end, std::string_view trouble) {
    Measured found = broken_between(sure, end, trouble, end);
    found.proof = Proof::length;
    found.has_its_end = true;
    return found;
}

inline Measured lone_head(std::uint64_t sure, std::uint64_t length, std::string_view trouble) {
    Measured head = broken_between(sure, length, trouble);
    head.proof = Proof::none;
    return head;
}

// What content says of itself.
struct Description {
    std::string title;             // fit for a file name; empty: it says nothing
    std::optional<FileTime> date;  // when it was taken, written or sent
    std::vector<Fact> facts;       // "width", "camera", "duration" ...
};

// A part of content that shows by its first bytes what it is, and of whose place in the content is known.
struct Landmark {
    std::uint64_t at = 0;          // bytes from the start of the content, where the part begins
    std::uint64_t mark_after = 0;  // bytes from there to its mark
    std::string_view mark;
};

struct Format {
    std::string_view name;  // lower case, as in `--format`
    Kind kind = Kind::other;
    std::vector<std::string_view> extensions;  // lower case, the usual one first
    // Any one of these groups shows the format; all signatures of a group must hold.
    std::vector<std::vector<Signature>> signatures = {};
    bool is_text = false;  // has no signature, but only characters
    // What shows its end stands in many files, and nothing shows what lies before: pieces that lead to one prove
    // nothing.
    bool is_loose = false;

    // How many bits of evidence the start of a file shows, 0 for none. Without it the signatures are all there is to go
    // by. `head` holds at least a sector, up to 64 KiB.
    std::function<unsigned(ByteView head)> bid = nullptr;

    // Walks the content's own structure from its start; called through measure(). Null: where it ends can't be told.
    std::function<Measured(Reader& content)> measure = nullptr;
    // The same walk, which tells of the parts that it passes, damaged ones too, and goes on behind these where it can.
    // Null: it has none that are told.
    std::function<Measured(Reader& content, const PartSink& parts)> take_apart = nullptr;
    // How many foreign bytes could lie within content that is broken as `found` says, where its own tables tell. May be
    // null, and may find none.
    std::function<std::vector<std::uint64_t>(Reader& content, const Measured& found)> gaps = nullptr;
    // What must stand behind content that is broken as `found` says, and can be looked for elsewhere. May be null, and
    // may find none.
    std::function<std::optional<Landmark>(Reader& content, const Measured& found)> landmark = nullptr;
    // Of content of `length` bytes that was measured. May be null.
    std::function<Description(Reader& content, std::uint64_t length)> describe = nullptr;

    // The format whose measurement tells this one apart, where it has none of its own; empty: it is not measured.
    std::string_view told_by = {};

    // For people: what tells its end, and what measuring checks.
    std::string_view ending = {};
    std::string_view checked = {};
};

// Text is everywhere, and what nothing else claims to be: where it lies nothing is said about what it belongs to.
inline bool is_plain_text(const Format& format) { return format.name == "txt" || format.name == "csv"; }

// Measures content as `format`, which has a measurer. What the measurer concluded from bytes that are not there, or
// can't be read, is not believed: what it calls whole is broken then. Gives up when the reader's budget is spent.
Measured measure(const Format& format, Reader& content);

// How the first bytes of a file's content go with its name. `head`: at least the first 512 bytes of the content, or all
// of a shorter file.
Agreement judge_head(std::string_view extension, ByteView head);

const Format* format_with_extension(std::string_view extension);  // null: none known
// The one for which most speaks; null: no signature stands there.
const Format* format_with_head(ByteView head);
const Format* format_named(std::string_view name);  // null: none known
// The format by which content of this one is measured: itself, or the one that tells it apart. Null where neither can
// be.
const Format* measurer_of(const Format& format);

// How many bits of evidence for `format` stand in `head`; 0: it is not this format.
unsigned bid_of(const Format& format, ByteView head);

// The kind a file's name tells.
Kind kind_of_name(std::string_view name);

// Every format, in the order in which signatures are tried; and by families. Formats of a family that are not measured
// themselves are told apart when another one of it is.
std::span<const Format* const> all_formats();
std::span<const std::vector<Format>* const> all_families();
// A family that is not among the program's own; it must outlive the program. Before any other call to the registry.
void add_format_family(const std::vector<Format>& family);
// Formats that are measured together: the finer one shows in the content.
bool are_kin(std::string_view a, std::string_view b);

}  // namespace dredger
