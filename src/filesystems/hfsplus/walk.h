// Everything that an HFS Plus volume tells of its files: the catalog first, then what its trees do not tell any more.
#pragma once

#include <unordered_map>
#include <unordered_set>

#include "filesystems/hfsplus/former.h"
#include "filesystems/hfsplus/placing.h"
#include "filesystems/tools/folder_path.h"
#include "filesystems/tools/walking.h"

namespace dredger::hfsplus {

class HfsPlusWalk : Walking {
  public:
    HfsPlusWalk(const MediumPtr& volume, const Geometry& geometry, const SpaceMap& space, const WalkOptions& options,
                RecordSink& sink, std::vector<std::string>& warnings);

    void run();

  private:
    // A file that hard links lead to, kept in a private folder of the volume's.
    struct Shared {
        CatalogItem item;
        bool is_linked = false;
    };

    void learn();
    void learn(const CatalogRecord& record);
    void walk_live();
    void walk_former();
    void emit_item(Record&& record, const CatalogItem& item, bool is_live);
    void emit_streams(const Record& file, const CatalogItem& item, bool is_live);
    void place_former();
    void emit_former(std::uint32_t id, const FormerItem& former);
    bool may_have_grown(std::string_view name, const CatalogItem& item) const;
    void tell_name(Record& record, std::uint32_t id, const FormerItem& former) const;
    void lay_placed(Record& record, std::uint32_t id) const;
    void emit_nameless(const FormerItem& former);
    void lay(Record& record, const CatalogItem& item, bool is_live);
    const CatalogItem* target_of(const CatalogItem& link);
    std::vector<Extent> places_of(const Attribute& attribute, const ExtentsOverflow& overflow) const;
    FolderPlace place_of(std::uint32_t folder) const;

    const MediumPtr& volume_;
    const Geometry& geometry_;
    Trees trees_;
    ExtentsOverflow extents_;
    Attributes attributes_;
    Former former_;
    Placing placing_;
    std::map<std::uint32_t, Placed> placed_;           // former files, by id
    std::unordered_map<std::uint32_t, Link> folders_;  // live ones, by id
    std::unordered_set<std::uint32_t> live_;           // ids of all that is live
    std::uint32_t private_files_ = 0, private_folders_ = 0;
    std::unordered_map<std::string, Shared> shared_;  // what hard links lead to, by its name in the private folders
    std::unordered_set<std::uint64_t> live_starts_;   // the first blocks of live files
    std::uint64_t damaged_records_ = 0;
};

}  // namespace dredger::hfsplus
