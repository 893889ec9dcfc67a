// A fixture medium whose file system was walked, for the tests of each file system.
#pragma once

#include <algorithm>
#include <functional>
#include <gtest/gtest.h>

#include "filesystems/filesystem.h"
#include "support/support.h"

namespace dredger::test {

struct Collector final : RecordSink {
    std::vector<Record> records;
    std::size_t most = ~std::size_t{0};

    bool take(Record&& record) override {
        records.push_back(std::move(record));
        return records.size() < most;
    }
    // Null where there is none.
    const Record* find(const std::string& path, State state = State::deleted) const;
};

struct Walked {
    std::shared_ptr<MemoryMedium> medium;
    MediumPtr volume;
    std::unique_ptr<FileSystem> filesystem;
    Collector found;
    std::vector<std::string> warnings;

    // The fixture's first volume; `damage` may change the medium before, and hears where the volume begins.
    explicit Walked(const std::string& fixture,
                    const std::function<void(MemoryMedium&, std::uint64_t volume)>& damage = {});
    std::string sum_of(const Record& record) const;
};

// Every file and folder of the truth is found with its size and times, and those that are whole with their bytes; but
// for those whose path begins as one of `missing` does: nothing on the medium tells their names.
void expect_truth(const Walked& walked, const std::string& fixture, const std::vector<std::string>& missing = {});

// Of what was deleted, every file that is physically whole is found with its path, size, time and bytes.
void expect_whole_deleted(const Walked& walked, const std::string& fixture);

// Every file and folder of the truth that is still there is found live with its size and bytes.
void expect_live(const Walked& walked, const std::string& fixture);

// How many of the deleted files that are physically whole are found under their path with their bytes. What is found
// under such a path has them, or says that it is damaged.
std::size_t deleted_that_come_back(const Walked& walked, const std::string& fixture);

// Scans `copies` damaged copies of a fixture and judges what is found: whatever stands there, it comes to an end.
// `tender` are places where a few changed bytes do most harm.
void scan_damaged_copies(const std::string& fixture, unsigned copies, const std::vector<std::uint64_t>& tender,
                         unsigned seed = 20260503);

// Bytes of an image that damage is likely to hit.
class TenderPlaces {
  public:
    explicit TenderPlaces(std::uint64_t size) : size_(size) {}
    // `weight` times as likely as others.
    void add(std::uint64_t from, std::uint64_t length, int weight = 1) {
        for (; weight > 0; --weight)
            for (std::uint64_t at = from; at < std::min(from + length, size_); ++at) places_.push_back(at);
    }
    const std::vector<std::uint64_t>& all() const { return places_; }

  private:
    std::uint64_t size_;
    std::vector<std::uint64_t> places_;
};

// A fixture, and the seed of what is done to it, as parameters of a test; and how the test is then named.
using Damage = std::pair<const char*, unsigned>;
struct NameOfTest {
    std::string operator()(const testing::TestParamInfo<const char*>& one) const { return word_of(one.param); }
    std::string operator()(const testing::TestParamInfo<Damage>& one) const {
        return word_of(one.param.first) + "_" + std::to_string(one.param.second);
    }

  private:
    static std::string word_of(std::string name);
};

// A thousand damaged copies of a fixture, or as many as are affordable; `tender_places` finds them in it.
void scan_a_thousand(const Damage& damage,
                     const std::function<std::vector<std::uint64_t>(const std::vector<std::byte>&)>& tender_places);

// File systems whose walk reads a lot take so long under the sanitizers that only every tenth copy is scanned there;
// all of them with DREDGER_ALL_COPIES in the environment.
unsigned affordable(unsigned copies);

// Bytes of this process that were resident at most.
std::uint64_t most_memory();

}  // namespace dredger::test
