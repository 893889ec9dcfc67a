// A store that was opened and walked, for the tests of each kind.
#pragma once

#include <cstdlib>
#include <gtest/gtest.h>

#include "media/content.h"
#include "stores/store.h"
#include "support/walked.h"

namespace dredger::test {

class OpenedStore {
  public:
    OpenedStore(MediumPtr medium, std::string_view format) : medium_(std::move(medium)) {
        auto opened = open_store(medium_, format);
        if (!opened || *opened == nullptr) return;
        store = std::shared_ptr<MailStore>(std::move(*opened));
        store->set_root("store");
        EXPECT_TRUE(store->walk({}, found, warnings));
    }
    OpenedStore(std::vector<std::byte> bytes, std::string_view format)
        : OpenedStore(std::make_shared<MemoryMedium>(std::move(bytes)), format) {}

    bool is_store() const { return store != nullptr; }

    // The content of a record; `bad` hears what of it can't be had.
    std::string content(const Record& record, std::vector<Extent>* bad = nullptr) const {
        const auto content = open_content(with_composed(medium_, store), record.layout, record.size);
        std::string bytes(static_cast<std::size_t>(content->size()), '\0');
        std::vector<Extent> lost;
        EXPECT_TRUE(content->read(0, std::as_writable_bytes(std::span(bytes)), &lost));
        if (bad != nullptr) *bad = lost;
        return bytes;
    }
    // Of all files that were found; what can't be had of some is zeros.
    std::multiset<std::string> contents(State state = State::live) const {
        std::multiset<std::string> all;
        for (const Record& record : found.records)
            if (!record.is_folder && record.state == state) all.insert(content(record));
        return all;
    }
    const Record* find(const std::string& path, State state = State::live) const { return found.find(path, state); }

    std::shared_ptr<MailStore> store;
    Collector found;
    std::vector<std::string> warnings;

  private:
    MediumPtr medium_;
};

// Of what is damaged at random: other places with another DREDGER_SEED in the environment.
inline std::uint64_t seed_of(std::uint64_t usual) {
    const char* seed = std::getenv("DREDGER_SEED");
    return seed != nullptr ? std::strtoull(seed, nullptr, 10) : usual;
}

inline std::string fact_of(const Record& record, std::string_view name) {
    for (const Fact& fact : record.facts)
        if (fact.name == name) return fact.value;
    return {};
}

}  // namespace dredger::test
