#include "filesystems/ntfs/walk.h"

#include <algorithm>
#include <fmt/format.h>

#include "filesystems/ntfs/attributes.h"
#include "media/content.h"

namespace dredger::ntfs {
namespace {

constexpr std::uint64_t kGlance = 4096;  // records or blocks between two looks at the clock
constexpr std::string_view kJournalName = "$UsnJrnl";
constexpr std::string_view kJournalStream = "$J";
constexpr std::size_t kIndexRootHeader = 16;  // bytes before its IndexHeader

// The long name where there is one.
bool is_shown(const File& file, const Name& name) {
    return name.space != FILE_NAME_DOS ||
           std::all_of(file.names.begin(), file.names.end(), [](const Name& n) { return n.space == FILE_NAME_DOS; });
}

// What lies elsewhere or is packed in a way of its own, though the record looks like that of a sparse file.
const char* kept_elsewhere(const File& file) {
    if (file.reparse_tag == IO_REPARSE_TAG_WOF)
        return "Windows packed it as a part of the system (WOF): its content lies packed in a stream that is not read "
               "yet";
    if (file.reparse_tag == IO_REPARSE_TAG_DEDUP) return "its content lies in the deduplication store of the server";
    if ((file.reparse_tag & IO_REPARSE_TAG_CLOUD_MASK) == (IO_REPARSE_TAG_CLOUD & IO_REPARSE_TAG_CLOUD_MASK))
        return "its content may lie in the owner's online storage only";
    return nullptr;
}

}  // namespace

NtfsWalk::NtfsWalk(const MediumPtr& volume, const Geometry& geometry, const Mft& mft, const WalkOptions& options,
                   RecordSink& sink, std::vector<std::string>& warnings)
    : Walking(options, sink, warnings),
      volume_(volume),
      geometry_(geometry),
      mft_(mft),
      reader_(volume, geometry, mft) {}

void NtfsWalk::run() {
    learn_folders();
    std::sort(extensions_.begin(), extensions_.end());
    if (!options_.live_only && !stopped_) {
        read_indexes();
        read_journal();
        read_log();
    }
    if (stopped_) return;
    mft_.each([&](const RawRecord& record) {
        take(record);
        return !stopped_;
    });
    emit_remaining_names();
    warn_of(damaged_, "records of the file table are damaged: what only they told is missing");
}

void NtfsWalk::learn_folders() {
    damaged_ = mft_.each([&](const RawRecord& record) {
        if (record.number >= lives_.size()) lives_.resize(static_cast<std::size_t>(record.number) + 1);
        lives_[static_cast<std::size_t>(record.number)] = {record.header.SequenceNumber, true, record.in_use()};
        if (!record.is_extension())
            learn_folder(record);
        else if (!record.in_use())
            extensions_.emplace_back(record.header.BaseFileRecordSegment.number(), record.number);
        if (record.number % kGlance == 0) go_on("reading folders", record.number, mft_.record_count());
        return !stopped_;
    });
}

void NtfsWalk::learn_folder(const RawRecord& record) {
    if (!record.is_folder()) {
        // The journal of changes is the one other file that is needed before all others.
        AttributeReader attributes(record.bytes, record.header);
        while (const auto attribute = attributes.next()) {
            if (attribute->type > FILE_NAME) break;
            if (attribute->type != FILE_NAME || !attribute->resident) continue;
            const auto name = attribute->value.as<FileName>(0);
            if (!name || name->ParentDirectory.number() != EXTEND_NUMBER) break;
            const auto whole = parse_name(attribute->value);
            if (whole && whole->text == kJournalName) journal_ = {record.number, record.header.SequenceNumber};
        }
        return;
    }
    if (options_.live_only && !record.in_use()) return;
    const File file = reader_.read(record);
    const Reference self{file.number, file.sequence};
    for (const Name& name : file.names.empty() ? file.former_names : file.names) {
        if (!is_shown(file, name)) continue;
        folders_.add(file.number, file.sequence, file.in_use, reference_of(name.parent), name.text);
        break;
    }
    if (options_.live_only) return;

    const auto place = mft_.locate(record, 0, 1);
    const ByteView whole(record.bytes.bytes(), place.empty() || !place.front().is_stored() ? 0 : place.front().offset);
    AttributeReader attributes(record.bytes, record.header);
    std::vector<FormerName> found;
    while (const auto attribute = attributes.next()) {
        if (attribute->type != INDEX_ROOT || !attribute->resident) continue;
        const auto index = attribute->value.as<IndexHeader>(kIndexRootHeader);
        const std::size_t used = file.in_use && index ? kIndexRootHeader + index->FirstFreeByte : 0;
        find_former_names(whole, attribute->value_offset + std::min(used, attribute->value.size()), self, found);
    }
    former_.add(std::move(found));

    std::uint64_t at = 0;  // in the index
    for (const Extent& extent : file.index) {
        const std::uint64_t size = geometry_.index_size;
        for (std::uint64_t skip = (size - at % size) % size; skip + size <= extent.length && extent.is_stored();
             skip += size)
            if (blocks_.size() < volume_->size() / size) blocks_.push_back({extent.offset + skip, self, file.in_use});
        at += extent.length;
    }
}

// In the order in which they lie on the medium.
void NtfsWalk::read_indexes() {
    std::stable_sort(blocks_.begin(), blocks_.end(),
                     [](const IndexBlock& a, const IndexBlock& b) { return a.offset < b.offset; });
    std::vector<std::byte> bytes(geometry_.index_size);
    for (std::size_t i = 0; i < blocks_.size() && !stopped_; ++i) {
        if (i % kGlance == 0 && !go_on("reading folders", i, blocks_.size())) break;
        const IndexBlock& block = blocks_[i];
        std::vector<Extent> bad;
        if (!volume_->read(block.offset, bytes, &bad) || !bad.empty()) continue;
        std::vector<FormerName> found;
        read_index_block(bytes, block.offset, block.folder, block.folder_in_use ? IndexPart::slack : IndexPart::all,
                         found);
        former_.add(std::move(found));
    }
    blocks_ = {};

    former_.seal();
    for (const FormerName& former : former_.all()) {
        const bool is_folder = (former.name.attributes & kDupFileNameIndexPresent) != 0;
        if (former.has_file && is_folder && !is_life_of(former.file))
            folders_.add_former(former.file, reference_of(former.name.parent), former.name.text);
    }
}

void NtfsWalk::read_journal() {
    const auto record = journal_ ? mft_.find(journal_->number) : std::nullopt;
    if (!record) return;
    const File file = reader_.read(*record);
    for (const Stream& stream : file.streams) {
        if (stream.name != kJournalStream) continue;
        // Its older part was given back and is sparse.
        std::vector<Extent> stored;
        std::copy_if(stream.layout.extents.begin(), stream.layout.extents.end(), std::back_inserter(stored),
                     [](const Extent& e) { return e.is_stored(); });
        usn_.read(Content(volume_, stored));
    }
    for (const auto& [reference, deletion] : usn_.deletions())
        if (deletion.is_folder && !is_life_of(reference))
            folders_.add_former(reference, deletion.parent, deletion.name);
}

// The log is asked only where something is known of a file whose record was given to another one.
void NtfsWalk::read_log() {
    const auto& names = former_.all();
    const bool needed =
        std::any_of(names.begin(), names.end(), [&](const FormerName& f) { return f.has_file && !is_life_of(f.file); });
    const auto record = needed ? mft_.find(LOG_FILE_NUMBER) : std::nullopt;
    if (!record) return;
    const File file = reader_.read(*record);
    if (file.streams.empty() || !file.streams.front().name.empty()) return;
    log_.read(*open_content(volume_, file.streams.front().layout, file.streams.front().size), geometry_);
}

bool NtfsWalk::is_life_of(Reference reference) const {
    if (reference.number >= lives_.size()) return false;
    const Life& life = lives_[static_cast<std::size_t>(reference.number)];
    return life.stands && is_same_life(reference.sequence, life.sequence, life.in_use);
}

std::vector<std::uint64_t> NtfsWalk::extensions_of(const RawRecord& base) const {
    std::vector<std::uint64_t> numbers;
    if (base.in_use()) return numbers;
    auto at = std::lower_bound(extensions_.begin(), extensions_.end(), std::pair(base.number, std::uint64_t{0}));
    for (; at != extensions_.end() && at->first == base.number; ++at) numbers.push_back(at->second);
    return numbers;
}

void NtfsWalk::take(const RawRecord& record) {
    if (record.is_extension() || (!record.in_use() && (options_.live_only || record.number < FIRST_USER_FILE_NUMBER)))
        return;
    const File file = reader_.read(record, extensions_of(record));
    const bool tells_nothing = file.names.empty() && file.streams.empty();
    if (tells_nothing) return;
    for (const Name& name : file.names) former_.account_for(name);
    emit_file(file);
    take_former_names(file, &record);
}

// Names that a folder remembers of this record, in this life or in earlier ones.
void NtfsWalk::take_former_names(const File& file, const RawRecord* record) {
    while (const FormerName* next = former_.next_upto(file.number)) {
        const FormerName& former = *next;
        if (former.file.number < file.number || !is_same_life(former.file.sequence, file.sequence, file.in_use)) {
            emit_former(former, former.file.number == file.number ? record : nullptr);
            continue;
        }
        const bool still_there = std::any_of(file.names.begin(), file.names.end(),
                                             [&](const Name& name) { return is_same_name(name, former.name); });
        if (still_there || file.names.empty()) continue;
        const Name& now =
            *std::find_if(file.names.begin(), file.names.end(), [&](const Name& n) { return is_shown(file, n); });
        emit_name(file, reference_of(former.name.parent), former.name.text,
                  {fmt::format("an earlier name, or a further one, of {}, which {}",
                               joined(folders_.path_of(reference_of(now.parent)), now.text),
                               file.in_use ? "is still there" : "is deleted too")});
    }
}

void NtfsWalk::emit_file(const File& file) {
    std::vector<std::string> notes;
    if (file.damaged) notes.emplace_back("a part of its record in the file table is damaged");
    for (const Name& name : file.names)
        if (is_shown(file, name)) emit_name(file, reference_of(name.parent), name.text, notes);
    if (!file.names.empty()) return;
    if (!file.former_names.empty()) {
        const Name& name = file.former_names.front();
        emit_name(file, reference_of(name.parent), name.text, notes);
        return;
    }

    if (const FormerName* remembered = former_.find(file.number, file.sequence, file.in_use)) {
        emit_name(file, reference_of(remembered->name.parent), remembered->name.text, notes);
        return;
    }
    notes.emplace_back("its record has no name any more; the number of the record stands for it");
    emit_name(file, {file.number, file.sequence}, fmt::format("(record {})", file.number), notes);
}

Record NtfsWalk::record_of(const File& file, Reference parent, const std::string& name) {
    Record record;
    record.identity = {0, file.number, file.in_use ? file.sequence : sequence_before_freeing(file.sequence)};
    const bool is_nowhere = file.names.empty() && parent.number == file.number;
    record.folder = is_nowhere ? std::string() : folders_.path_of(parent);
    record.name = name;
    record.name_is_whole = !is_nowhere;
    record.name_is_placeholder = is_nowhere;
    record.is_own =
        file.number < FIRST_USER_FILE_NUMBER || record.folder == "$Extend" || record.folder.starts_with("$Extend/");
    record.is_folder = file.is_folder;
    record.state = file.in_use ? State::live : State::deleted;
    record.created = file.created;
    record.modified = file.modified;
    record.changed = file.changed;
    record.accessed = file.accessed;
    record.attributes = attribute_words(file.attributes);
    if (!file.in_use) {
        const UsnJournal::Deletion* told = usn_.find({file.number, sequence_before_freeing(file.sequence)});
        if (told != nullptr) record.deleted = told->when;
        tell_history({file.number, sequence_before_freeing(file.sequence)}, record);
    }
    if (record.folder.starts_with("(folder "))
        record.notes.emplace_back("a folder above it is not known any more; the number of its record stands for it");
    if (file.damaged) record.trust = LayoutTrust::damaged;
    if (!file.link_target.empty()) record.facts.push_back({"link to", file.link_target});
    return record;
}

void NtfsWalk::tell_history(Reference file, Record& record) const {
    for (std::string& line : usn_.history_of(file)) record.facts.push_back({"journal", std::move(line)});
}

void NtfsWalk::emit_name(const File& file, Reference parent, const std::string& name, std::vector<std::string> notes) {
    Record record = record_of(file, parent, name);
    record.notes.insert(record.notes.end(), std::make_move_iterator(notes.begin()),
                        std::make_move_iterator(notes.end()));
    record.keeping = file.keeping;
    for (const Name& other : file.names) {
        if (other.text == name) continue;
        record.facts.push_back(is_shown(file, other) ? Fact{"also linked as", other.text}
                                                     : Fact{"short name", other.text});
    }
    const char* elsewhere = kept_elsewhere(file);
    const bool has_main = !file.streams.empty() && file.streams.front().name.empty() && !file.is_folder;
    std::vector<const Stream*> others;
    for (const Stream& stream : file.streams) {
        const bool is_main = has_main && &stream == &file.streams.front();
        if (record.is_own && !is_main)
            record.keeping.insert(record.keeping.end(), stream.layout.extents.begin(), stream.layout.extents.end());
        else if (!is_main)
            others.push_back(&stream);
    }
    for (const Stream* stream : others)
        record.facts.push_back(
            {"alternate stream", fmt::format("{} bytes, listed as {};{}", stream->size, name, stream->name)});

    std::vector<Record> streams;
    for (const Stream* stream : elsewhere == nullptr ? others : std::vector<const Stream*>()) {
        Record& one = streams.emplace_back(record);
        std::erase_if(one.facts, [](const Fact& f) { return f.name == "alternate stream"; });
        one.keeping.clear();
        one.is_folder = false;
        one.notes.push_back(fmt::format("an alternate stream of {}", name));
        one.name_stream(stream->name);
        add_content(one, *stream);
    }
    if (elsewhere != nullptr) record.notes.emplace_back(elsewhere);
    if (has_main && elsewhere == nullptr) {
        add_content(record, file.streams.front());
    } else if (!file.is_folder && file.link_target.empty()) {
        record.size = has_main ? file.streams.front().size : file.names.empty() ? 0 : file.names.front().size;
        record.trust = LayoutTrust::none;
        if (elsewhere == nullptr) record.notes.emplace_back("its record does not tell of its content any more");
    }
    emit(std::move(record));
    for (Record& stream : streams) emit(std::move(stream));
}

void NtfsWalk::add_content(Record& record, const Stream& stream) {
    record.size = stream.size;
    record.layout = stream.layout;
    if (stream.encrypted) record.attributes.emplace_back(kEncrypted);
    if (!stream.whole) record.notes.emplace_back("a part of what told where its content lies is damaged or gone");
}

// What folders and the journal remember of files whose records are gone.
void NtfsWalk::emit_remaining_names() {
    if (options_.live_only) return;
    while (const FormerName* former = former_.next_upto(mft_.record_count())) emit_former(*former, nullptr);
    for (const FormerName* former : former_.unaccounted()) emit_former(*former, nullptr);
    for (const auto& [reference, deletion] : usn_.deletions()) {
        if (stopped_) return;
        const bool is_listed = former_.find(reference.number, reference.sequence, true) != nullptr;
        if (is_life_of(reference) || is_listed) continue;
        Record record;
        record.identity = {0, reference.number, reference.sequence};
        record.folder = folders_.path_of(deletion.parent);
        record.name = deletion.name;
        record.is_folder = deletion.is_folder;
        record.state = State::deleted;
        record.origin = Origin::remnant;
        record.deleted = deletion.when;
        tell_history(reference, record);
        record.trust = LayoutTrust::none;
        record.notes.emplace_back("only the journal of changes tells of it: its record was given to another file");
        emit(std::move(record));
    }
}

// `record_now`: the one that another file has now, where it is at hand.
void NtfsWalk::emit_former(const FormerName& former, const RawRecord* record_now) {
    Record record;
    if (former.has_file)
        record.identity = {0, former.file.number, former.file.sequence};
    else
        record.identity.number = former.offset;
    record.folder = folders_.path_of(reference_of(former.name.parent));
    record.name = former.name.text;
    record.is_folder = (former.name.attributes & kDupFileNameIndexPresent) != 0;
    record.state = State::deleted;
    record.origin = Origin::remnant;
    record.size = record.is_folder ? 0 : former.name.size;
    record.created = former.name.created;
    record.modified = former.name.modified;
    record.changed = former.name.changed;
    record.accessed = former.name.accessed;
    record.attributes = attribute_words(former.name.attributes);
    record.trust = LayoutTrust::none;
    if (const UsnJournal::Deletion* told = former.has_file ? usn_.find(former.file) : nullptr)
        record.deleted = told->when;
    if (former.has_file) tell_history(former.file, record);
    if (record.is_folder || !restore_content(former, record_now, record))
        record.notes.emplace_back(
            "only its folder's index still has its name: its record was given to another file, so nothing tells where "
            "its "
            "content lies");
    emit(std::move(record));
}

// From a copy of its record in the log, or from what the file that has its record now did not overwrite of it.
bool NtfsWalk::restore_content(const FormerName& former, const RawRecord* record_now, Record& record) const {
    const char* source = "the file system's log a copy of the record";
    std::vector<Stream> found;
    if (const Stream* logged = former.has_file ? log_.find(former.file) : nullptr) {
        found = {*logged};
    } else if (record_now != nullptr) {
        // That may be of any file that had the record; the size tells whether it is this one's.
        source = "the end of the record still tells where content of its size lay";
        found = find_data_in_slack(*record_now, geometry_);
        std::erase_if(found, [&](const Stream& stream) { return stream.size != record.size; });
    }
    if (found.empty()) return false;
    add_content(record, found.front());
    record.trust = LayoutTrust::exact;
    record.notes.push_back(
        fmt::format("its record was given to another file: the folder's index has its name, and {}", source));
    return true;
}

}  // namespace dredger::ntfs
