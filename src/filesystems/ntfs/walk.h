// Everything that an NTFS volume still tells of its files. The table is read front to back twice: first for the
// folders, then for everything.
#pragma once

#include "filesystems/ntfs/former_data.h"
#include "filesystems/ntfs/former_names.h"
#include "filesystems/ntfs/usn_journal.h"
#include "filesystems/tools/walking.h"

namespace dredger::ntfs {

class NtfsWalk : Walking {
  public:
    NtfsWalk(const MediumPtr& volume, const Geometry& geometry, const Mft& mft, const WalkOptions& options,
             RecordSink& sink, std::vector<std::string>& warnings);

    void run();

  private:
    // What the first pass keeps of a record.
    struct Life {
        std::uint16_t sequence = 0;
        bool stands = false;
        bool in_use = false;
    };
    struct IndexBlock {
        std::uint64_t offset;  // on the volume
        Reference folder;
        bool folder_in_use;
    };

    void learn_folders();
    void learn_folder(const RawRecord& record);
    void read_indexes();
    void read_journal();
    void tell_history(Reference file, Record& record) const;
    void read_log();

    void take(const RawRecord& record);
    void take_former_names(const File& file, const RawRecord* record);
    void emit_file(const File& file);
    void emit_name(const File& file, Reference parent, const std::string& name, std::vector<std::string> notes);
    static void add_content(Record& record, const Stream& stream);
    void emit_remaining_names();
    void emit_former(const FormerName& former, const RawRecord* record_now);
    bool restore_content(const FormerName& former, const RawRecord* record_now, Record& record) const;
    Record record_of(const File& file, Reference parent, const std::string& name);
    bool is_life_of(Reference reference) const;
    std::vector<std::uint64_t> extensions_of(const RawRecord& base) const;

    MediumPtr volume_;
    const Geometry& geometry_;
    const Mft& mft_;
    FileReader reader_;

    std::vector<Life> lives_;  // by record number
    std::vector<std::pair<std::uint64_t, std::uint64_t>>
        extensions_;  // free records that continue another: base, number
    Folders folders_;
    std::vector<IndexBlock> blocks_;
    std::optional<Reference> journal_;
    UsnJournal usn_;
    LogCopies log_;
    FormerNames former_;
    std::uint64_t damaged_ = 0;  // records
};

}  // namespace dredger::ntfs
