#include "scanning/mail_stores.h"

#include <algorithm>
#include <fmt/format.h>
#include <map>

#include "base/text.h"
#include "formats/format.h"
#include "scanning/volume_scan.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

std::string_view format_by_name(std::string_view name) {
    const Format* format = format_with_extension(extension_of(name));
    return format != nullptr ? format->name : std::string_view();
}

// The name of a file without what tells its format.
std::string stem_of(std::string_view name) {
    const std::size_t point = name.rfind('.');
    return std::string(point == name.npos || point == 0 ? name : name.substr(0, point));
}

// A find that is a store, with what is needed to read it.
struct StoreFind {
    std::int64_t id;
    std::string path, format, folder;
    State state;
    std::vector<Extent> extents;
    bool is_packed;
};

// Some programs give their mailboxes names without an ending.
bool begins_as_mailbox(const ScanSession& session, const Candidate& c) {
    constexpr std::string_view kBegin = "From ";
    if (!c.format.empty() || c.record.is_folder || !extension_of(c.record.name).empty()) return false;
    if (c.layout.codec != Codec::none || c.layout.extents.empty() || !c.layout.extents.front().is_stored())
        return false;
    const auto head = session.medium->bytes(c.layout.extents.front().offset, kBegin.size());
    return head && ByteView(*head).has(0, kBegin);
}

Result<std::vector<StoreFind>> stores_among(const ScanSession& session) {
    Selection stores;
    stores.states = {};
    stores.formats.emplace_back();
    for (const StoreKind& kind : all_store_kinds())
        if (kind.is_many) stores.formats.emplace_back(kind.format);
    DREDGER_TRY(const auto volumes, session.catalog.volumes());
    for (const ScannedVolume& volume : volumes)
        if (volume.source == session.source && !is_store(volume.facts)) stores.volumes.insert(volume.id);
    std::vector<StoreFind> finds;
    if (stores.volumes.empty()) return finds;
    Order by_path;
    by_path.by = Order::By::path;
    DREDGER_CHECK(session.catalog.each(stores, by_path, true, [&](const Candidate& c) {
        if (c.record.size == 0 || c.layout.empty() || c.content != 0) return true;
        if (c.format.empty() && !begins_as_mailbox(session, c)) return true;
        StoreFind find{c.id,
                       c.record.path(),
                       c.format.empty() ? "mbox" : c.format,
                       joined(c.record.folder, stem_of(c.record.name)),
                       c.record.state,
                       {},
                       c.layout.codec != Codec::none};
        std::uint64_t left = c.record.size;
        for (const LayoutExtent& extent : c.layout.extents) {
            const Extent part = extent.part(0, std::min(left, extent.length));
            if (part.length > 0) find.extents.push_back(part);
            left -= part.length;
        }
        finds.push_back(std::move(find));
        return true;
    }));
    return finds;
}

// A store that is a find: what lies in one that is not there any more is not there, either.
class StoreOfAFind final : public MailStore {
  public:
    StoreOfAFind(std::shared_ptr<MailStore> store, State state) : store_(std::move(store)), state_(state) {
        facts_ = store_->facts();
    }
    MediumPtr composed(std::uint64_t number) const override { return store_->composed(number); }
    Result<void> walk(const WalkOptions& options, RecordSink& sink, std::vector<std::string>& warnings) const override {
        Marking marking(sink, state_);
        return store_->walk(options, marking, warnings);
    }

  private:
    class Marking final : public RecordSink {
      public:
        Marking(RecordSink& sink, State state) : sink_(sink), state_(state) {}
        bool take(Record&& record) override {
            if (record.state == State::live) record.state = state_;
            return sink_.take(std::move(record));
        }

      private:
        RecordSink& sink_;
        State state_;
    };

    std::shared_ptr<MailStore> store_;
    State state_;
};

// Where the store lies on the medium.
Volume place_of(const StoreFind& find, unsigned number) {
    Volume place;
    place.number = number;
    place.table = TableKind::container;
    place.type = "mail store";
    place.pieces = find.extents;
    place.offset = place.pieces.front().offset;
    for (const Extent& piece : place.pieces) place.length += piece.length;
    index_pieces(place);
    return place;
}

// Numbers for the volumes that stores become: those that they had, or the next ones.
class Numbers {
  public:
    Numbers(const std::vector<ScannedVolume>& volumes, std::int64_t source) {
        for (const ScannedVolume& volume : volumes) {
            if (volume.source != source) continue;
            next_ = std::max(next_, volume.place.number + 1);
            if (volume.find != 0) known_[volume.find] = volume.place.number;
        }
    }
    unsigned of(std::int64_t find) {
        const auto known = known_.find(find);
        return known != known_.end() ? known->second : next_++;
    }

  private:
    std::map<std::int64_t, unsigned> known_;
    unsigned next_ = 1;
};

// False: somebody asked to stop.
Result<bool> scan_store_in(ScanSession& session, const StoreFind& find, Numbers& numbers) {
    const Volume place = place_of(find, numbers.of(find.id));
    const MediumPtr content = open_volume(session.medium, place);
    auto opened = open_store(content, find.format);
    if (!opened) session.observer.warning(fmt::format("{}: {}", printable(find.path), opened.error().line()));
    if (!opened || *opened == nullptr) return true;
    const std::shared_ptr<MailStore> store(std::move(*opened));
    store->set_root(find.folder);
    VolumeScan scan(session);
    scan.lies_in_find(find.id);
    DREDGER_TRY(VolumeScan::Outcome outcome,
                scan.run(place, with_composed(content, store), StoreOfAFind(store, find.state)));
    outcome.report.label = find.path;
    outcome.report.is_store = true;
    session.report.volumes.push_back(outcome.report);
    return !outcome.interrupted;
}

}  // namespace

Result<std::shared_ptr<MailStore>> store_on(const OpenedMedium& opened, const MediumPtr& medium) {
    DREDGER_TRY(std::unique_ptr<MailStore> store, open_store(medium, format_by_name(medium->name())));
    std::error_code unknown;
    const bool is_folder = std::filesystem::is_directory(opened.path, unknown) && opened.form.starts_with("folder");
    if (!store && is_folder)
        return fail(ErrorKind::not_understood, "this is a folder, not a medium, and there is no mail in it",
                    opened.path.string(), "give the device it is on, or an image file");
    return std::shared_ptr<MailStore>(std::move(store));
}

Result<void> scan_store(ScanSession& session, const std::shared_ptr<MailStore>& store) {
    Volume place;
    place.number = 1;
    place.length = session.medium->size();
    const std::string path = session.medium->name();
    store->set_root(stem_of(split_path(path).name));
    session.medium = with_composed(session.medium, store);
    DREDGER_TRY(VolumeScan::Outcome outcome, VolumeScan(session).run(place, session.medium, *store));
    outcome.report.is_store = true;
    session.report.volumes.push_back(outcome.report);
    session.report.interrupted = outcome.interrupted;
    return {};
}

Result<bool> scan_stores_in_finds(ScanSession& session) {
    DREDGER_TRY(const auto finds, stores_among(session));
    DREDGER_TRY(const auto volumes, session.catalog.volumes());
    Numbers numbers(volumes, session.source);
    for (const StoreFind& find : finds) {
        if (session.observer.should_stop()) return false;
        if (find.is_packed) {
            session.observer.warning(
                fmt::format("{}: the mail in it is not read, as its file is packed; restore it, and scan it by itself",
                            printable(find.path)));
            continue;
        }
        DREDGER_TRY(const bool goes_on, scan_store_in(session, find, numbers));
        if (!goes_on) return false;
    }
    return true;
}

}  // namespace dredger
