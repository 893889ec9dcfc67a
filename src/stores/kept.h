// Stores of one message that is kept as properties: a MSG, a TNEF.
#pragma once

#include "stores/mapi/message_of.h"
#include "stores/store.h"

namespace dredger::stores {

class KeptStore final : public MailStore {
  public:
    KeptStore(const Medium& file, const char* name, const mapi::KeptMessage& kept, const mapi::NamedTags& names);

    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override;
    MediumPtr composed(std::uint64_t number) const override;

  private:
    Message message_;
};

}  // namespace dredger::stores
