#include "stores/kept.h"

#include "stores/telling.h"

namespace dredger::stores {

KeptStore::KeptStore(const Medium& file, const char* name, const mapi::KeptMessage& kept, const mapi::NamedTags& names)
    : message_(mapi::message_of(kept, names)) {
    facts_.filesystem = name;
    facts_.size = facts_.used = file.size();
}

Result<void> KeptStore::walk(const WalkOptions&, RecordSink& sink, std::vector<std::string>&) const {
    Found found;
    found.folder = root();
    (void)tell(message_, found, 0, std::nullopt, [&](Record&& record) { return sink.take(std::move(record)); });
    return {};
}

MediumPtr KeptStore::composed(std::uint64_t number) const { return part_of(message_, part_of_number(number)); }

}  // namespace dredger::stores
