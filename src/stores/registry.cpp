#include <algorithm>
#include <array>

#include "stores/families.h"
#include "stores/store.h"

namespace dredger {
namespace {

constexpr std::array kKinds = {
    StoreKind{"PST", "pst", true, stores::open_pst},
    StoreKind{"DBX", "dbx", true, stores::open_dbx},
    StoreKind{"MSG", "msg", false, stores::open_msg},
    StoreKind{"TNEF", "tnef", false, stores::open_tnef},
    StoreKind{"mbox", "mbox", true, stores::open_mbox},
    StoreKind{"message", "eml", false, stores::open_eml},
    StoreKind{"mail folder", "tar", false, stores::open_mail_tree},
    StoreKind{"address book", "sqlite", false, stores::open_address_book},
};

class WithComposed final : public Medium {
  public:
    WithComposed(MediumPtr medium, std::shared_ptr<const MailStore> store)
        : medium_(std::move(medium)), store_(std::move(store)) {}

    std::uint64_t size() const override { return medium_->size(); }
    std::uint32_t sector_size() const override { return medium_->sector_size(); }
    std::string name() const override { return medium_->name(); }
    std::uint64_t zeros_from(std::uint64_t offset) const override { return medium_->zeros_from(offset); }
    void expect(std::uint64_t offset, std::uint64_t length) const override { medium_->expect(offset, length); }
    void add_known_bad(std::uint64_t offset, std::uint64_t length, std::vector<Extent>& bad) const override {
        medium_->add_known_bad(offset, length, bad);
    }
    MediumPtr composed(std::uint64_t number) const override { return store_->composed(number); }

  protected:
    Result<void> read_within(std::uint64_t offset, std::span<std::byte> into, std::vector<Extent>& bad) const override {
        return medium_->read(offset, into, &bad);
    }

  private:
    MediumPtr medium_;
    std::shared_ptr<const MailStore> store_;
};

}  // namespace

std::span<const StoreKind> all_store_kinds() { return kKinds; }

Result<std::unique_ptr<MailStore>> open_store(const MediumPtr& file, std::string_view format) {
    for (const StoreKind& kind : kKinds) {
        DREDGER_TRY(std::unique_ptr<MailStore> store, kind.open(file, kind.format == format));
        if (store) return store;
    }
    return nullptr;
}

bool is_store(const VolumeFacts& facts) { return !format_of_store(facts).empty(); }

std::string_view format_of_store(const VolumeFacts& facts) {
    const auto kind =
        std::find_if(kKinds.begin(), kKinds.end(), [&](const StoreKind& one) { return one.name == facts.filesystem; });
    return kind != kKinds.end() ? kind->format : std::string_view();
}

MediumPtr with_composed(MediumPtr medium, std::shared_ptr<const MailStore> store) {
    return std::make_shared<WithComposed>(std::move(medium), std::move(store));
}

}  // namespace dredger
