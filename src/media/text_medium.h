// A text that was made in memory, as a medium.
#pragma once

#include <cstring>
#include <string>

#include "media/medium.h"

namespace dredger {

class TextMedium final : public Medium {
  public:
    TextMedium(std::string text, std::string name) : text_(std::move(text)), name_(std::move(name)) {}

    std::uint64_t size() const override { return text_.size(); }
    std::uint32_t sector_size() const override { return 1; }
    std::string name() const override { return name_; }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>&) const override {
        std::memcpy(into.data(), text_.data() + offset, into.size());
        return {};
    }

  private:
    std::string text_, name_;
};

}  // namespace dredger
