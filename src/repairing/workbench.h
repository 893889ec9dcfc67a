// What menders work with: files for results, undamaged files to learn from, and the wish to stop.
#pragma once

#include <filesystem>
#include <functional>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "formats/reader.h"
#include "media/medium.h"

namespace dredger::repairing {

// A file that is being made. It has no name of its own until it is placed, and is gone if it never is. What could not
// be written is told by finish(), so that whoever writes need not ask at every step. Used by one thread.
class Output {
  public:
    static Result<Output> create(const std::filesystem::path& folder);
    Output(Output&& other) noexcept;
    Output& operator=(Output&& other) noexcept;
    ~Output();

    std::uint64_t size() const { return size_; }  // bytes that were added
    void add(std::span<const std::byte> bytes);
    void add(std::string_view bytes) { add(std::as_bytes(std::span(bytes))); }
    // What stands in [at, at + length) of other content; what of it can't be read comes as zeros.
    void add(const Medium& content, std::uint64_t at, std::uint64_t length);
    // In place of bytes that were added before.
    void replace(std::uint64_t at, std::string_view bytes);

    // What was added so far, to read; only behind finish().
    MediumPtr content() const;
    Result<void> finish();
    // Gives it its name; false where a file of that name is there already.
    Result<bool> place(const std::filesystem::path& target);

  private:
    Output(int descriptor, std::filesystem::path folder) : descriptor_(descriptor), folder_(std::move(folder)) {}
    void flush();

    int descriptor_ = -1;
    std::filesystem::path folder_;
    std::uint64_t size_ = 0;
    std::string waiting_;  // added and not yet written
    int failed_ = 0;       // errno of the first write that failed
};

// Undamaged files that were made in the same way as damaged ones.
struct Reference {
    MediumPtr content;
    std::string name;
};

class Workbench {
  public:
    using Stop = std::function<bool()>;
    Workbench(std::filesystem::path folder, std::vector<Reference> references, Stop stop)
        : folder_(std::move(folder)), references_(std::move(references)), stop_(std::move(stop)) {}

    Result<Output> output() const { return Output::create(folder_); }
    std::span<const Reference> references() const { return references_; }
    void set_references(std::vector<Reference> references) { references_ = std::move(references); }
    bool should_stop() const { return stop_ && stop_(); }
    // For reading damaged content, which is looked at more often than sound content is.
    Budget budget() const;

  private:
    std::filesystem::path folder_;
    std::vector<Reference> references_;
    Stop stop_;
};

}  // namespace dredger::repairing
