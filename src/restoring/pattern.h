// New names for restored files, from a pattern with fields in braces: "{taken:%Y-%m}/{camera} {number:4}".
#pragma once

#include <string>
#include <string_view>
#include <vector>

#include "catalog/candidate.h"
#include "formats/format.h"

namespace dredger {

// What a pattern can ask for.
struct NameFacts {
    const Candidate* candidate = nullptr;
    const Description* said = nullptr;  // by the content; null: it was not asked
    std::string volume;                 // label, or "volume 2"
    std::uint64_t number = 0;           // running, from 1
};

class Pattern {
  public:
    // An error names the field that is not known.
    static Result<Pattern> parse(std::string_view text);

    // Whether the content must be asked what it says of itself.
    bool asks_content() const { return asks_content_; }

    // The path that it gives, its parts joined with "/"; parts that stay empty are left out. Without {name} or {ext}
    // the original extension follows. Where nothing is left, the original name.
    std::string path_for(const NameFacts& facts) const;

    // A line for each field: its name, and what it stands for.
    static std::vector<std::pair<std::string_view, std::string_view>> fields();

  private:
    struct Piece {
        std::string text;                 // between the fields
        std::vector<std::string> fields;  // the first that says anything
        std::string form;                 // behind the colon
    };
    std::vector<Piece> pieces_;
    bool asks_content_ = false;
    bool keeps_extension_ = false;  // the pattern itself brings it
};

}  // namespace dredger
