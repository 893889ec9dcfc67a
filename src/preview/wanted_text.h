// A text that is looked for among bytes, whatever the case of its letters, in any script (Unicode case folding), as it
// stands in UTF-8 and in UTF-16.
#pragma once

#include <array>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace dredger::preview {

class WantedText {
  public:
    // `utf8` is not empty.
    explicit WantedText(std::string_view utf8);

    struct Place {
        std::size_t at = 0, length = 0;  // bytes
        bool is_wide = false;            // in UTF-16LE
    };
    // Where it stands first, in either encoding.
    std::optional<Place> find_in(std::string_view bytes) const;
    // Bytes that it can have at most: a search piece by piece looks at so many again.
    std::size_t longest() const { return longest_; }

  private:
    // For each character of the text, the ways in which it can be written.
    using Pattern = std::vector<std::vector<std::string>>;
    // The bytes that it takes at the beginning of these; 0: it does not stand there.
    static std::size_t length_at(std::string_view bytes, const Pattern& pattern);

    Pattern narrow_, wide_;
    std::array<bool, 256> begins_{};  // bytes with which one of them begins
    std::size_t longest_ = 0;
};

}  // namespace dredger::preview
