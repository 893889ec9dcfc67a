// A message in a file of its own (RFC 5322); and EMLX, which has its length in a line before it and a property list
// behind it.
#include <charconv>

#include "formats/reader.h"
#include "stores/families.h"
#include "stores/standing.h"

namespace dredger::stores {
namespace {

class MessageFile final : public StandingStore {
  public:
    MessageFile(MediumPtr file, const Extent& where) : StandingStore(std::move(file), "message"), where_(where) {}

    void each(const Sink& sink) const override { (void)sink(standing(), 0); }
    std::optional<Standing> find(std::uint64_t) const override { return standing(); }

  private:
    Standing standing() const {
        Standing one;
        const std::uint64_t there = file()->size() - where_.offset;
        one.is_whole = where_.length <= there;
        one.where = {{where_.offset, std::min(where_.length, there)}};
        return one;
    }

    Extent where_;
};

}  // namespace

Result<std::unique_ptr<MailStore>> open_eml(MediumPtr file, bool is_told) {
    if (!is_told) return nullptr;
    Budget budget(Budget::kScant);
    Reader content(*file, budget);
    const std::string head = content.text(0, 4096);
    const std::size_t line = head.find('\n');
    std::uint64_t length = 0;
    const auto [end, error] = std::from_chars(head.data(), head.data() + head.size(), length);
    const bool has_length = line != std::string::npos && error == std::errc() &&
                            head.find_first_not_of(" \r", static_cast<std::size_t>(end - head.data())) == line;
    const Extent where = has_length ? Extent{line + 1, length} : Extent{0, file->size()};
    const std::size_t colon = head.find(':', has_length ? line : 0);
    if (colon == std::string::npos || where.offset >= file->size()) return nullptr;
    return std::make_unique<MessageFile>(std::move(file), where);
}

}  // namespace dredger::stores
