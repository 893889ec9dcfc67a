// The seam of mail stores: they are read like file systems, and what lies in them is composed from what they keep.
#pragma once

#include <memory>
#include <span>
#include <string>
#include <string_view>

#include "filesystems/filesystem.h"

namespace dredger {

// A mail store. Its records are messages, their attachments and folders. The content of a record either stands in the
// store as it is (then its layout tells where), or is composed (Held::composed).
class MailStore : public FileSystem {
  public:
    // The content that a layout of one of its records asks for by this number; null: there is none. From any thread.
    virtual MediumPtr composed(std::uint64_t number) const = 0;

    // The folder that all its paths begin with; empty: none. Set before the walk.
    void set_root(std::string root) { root_ = std::move(root); }
    const std::string& root() const { return root_; }

    const VolumeFacts& facts() const override { return facts_; }
    // It has no free space that a search of its surface would find more in than the walk.
    const SpaceMap& space() const override { return space_; }

  protected:
    VolumeFacts facts_;

  private:
    SpaceMap space_;
    std::string root_;
};

struct StoreKind {
    std::string_view name;    // VolumeFacts::filesystem
    std::string_view format;  // of the files that are such stores
    bool is_many;             // it holds many messages, so that it is worth a volume of its own on a drive
    // Null where `file` is no such store; an error where it is but can't be read. `is_told`: its name or its content
    // tells of one, so that it is worth a search where its beginning does not show it.
    Result<std::unique_ptr<MailStore>> (*open)(MediumPtr file, bool is_told);
};

std::span<const StoreKind> all_store_kinds();

// Null where it is none. `format`: by its name or content, as far as one is known.
Result<std::unique_ptr<MailStore>> open_store(const MediumPtr& file, std::string_view format);
bool is_store(const VolumeFacts& facts);
std::string_view format_of_store(const VolumeFacts& facts);  // empty: it is none

// A medium with what a store on it composes.
MediumPtr with_composed(MediumPtr medium, std::shared_ptr<const MailStore> store);

}  // namespace dredger
