// Records that can't be judged before all of a volume was seen wait here: in a file without a name beside the catalog,
// so that memory does not grow with the medium.
#pragma once

#include <filesystem>
#include <optional>

#include "filesystems/filesystem.h"

namespace dredger {

struct WaitingRecord {
    std::int64_t id = 0;  // of the candidate that it becomes
    Record record;        // without what it keeps for its own ends
};

class Spool {
  public:
    // Its file vanishes with it.
    static Result<Spool> open(const std::filesystem::path& folder);
    Spool(Spool&& other) noexcept;
    Spool& operator=(Spool&& other) noexcept;
    ~Spool();

    std::size_t size() const { return ids_.size(); }

    // In rising order of ids.
    Result<void> add(std::int64_t id, const Record& record);

    // The `index`-th that was added; reading them in order is quickest.
    Result<WaitingRecord> read(std::size_t index);

    // Nothing where it was not added.
    std::optional<WaitingRecord> find(std::int64_t id);

  private:
    Spool() = default;
    Result<void> flush();
    Result<void> load(std::uint64_t at, std::string& into) const;
    std::uint64_t end_of(std::size_t index) const;  // in the file

    int descriptor_ = -1;
    std::string where_;                   // for messages
    std::string unwritten_;               // what follows written_ bytes of the file
    std::uint64_t written_ = 0;           // bytes
    std::vector<std::int64_t> ids_;       // in order
    std::vector<std::uint64_t> offsets_;  // of each in the file
    std::uint64_t window_at_ = 0;         // what was read last, and its place
    std::string window_;
};

}  // namespace dredger
