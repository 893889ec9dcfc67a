// What files of a format look like: the seam behind which each format family is one file and one line of registry.cpp.
#pragma once

#include <cstdint>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

#include "base/bytes.h"

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

struct Format {
    std::string_view name;  // lower case, as in `--format`
    Kind kind;
    std::vector<std::string_view> extensions;  // lower case, the usual one first
    // Any one of these groups shows the format; all signatures of a group must hold.
    std::vector<std::vector<Signature>> signatures;
    bool is_text = false;  // has no signature, but only characters
};

// How the first bytes of a file's content go with its name.
enum class Agreement {
    agrees,     // the signature that belongs to the extension stands there
    fits,       // characters, as the extension says; any other text would fit as well
    disagrees,  // something else stands there
    blank,      // one repeated byte: wiped, trimmed, or never written
    unknown,    // the extension says nothing about content
};

// `head`: at least the first 512 bytes of the content, or all of a shorter file.
Agreement judge_head(std::string_view extension, ByteView head);

const Format* format_with_extension(std::string_view extension);  // null: none known
const Format* format_with_head(ByteView head);                    // null: no signature stands there

// The kind a file's name tells.
Kind kind_of_name(std::string_view name);

// Every family, in the order in which signatures are tried.
std::span<const Format* const> all_formats();

}  // namespace dredger
