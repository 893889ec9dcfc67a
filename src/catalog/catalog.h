// A catalog: the store in which a scan keeps all it found, and the questions that are asked of it.
#pragma once

#include <functional>
#include <map>
#include <set>

#include "catalog/grouping.h"
#include "catalog/order.h"
#include "catalog/selection.h"
#include "catalog/store.h"
#include "lives/seen_file.h"

namespace dredger {

class Catalog : public Store {
  public:
    explicit Catalog(Store store) : Store(std::move(store)) {}

    // As Store does.
    static Result<Catalog> open_for_scan(const std::filesystem::path& path);
    static Result<Catalog> open(const std::filesystem::path& path);

    // The files of a source of which another one with as many bytes, deleted ones among them, is there: by size.
    Result<void> each_of_same_size(std::int64_t source,
                                   const std::function<bool(std::int64_t candidate, std::uint64_t size)>& visit) const;
    // Of the selected ones whose content others of them have, too: how many have it, by the one that comes first in the
    // order, and those that come after it.
    struct Copies {
        std::map<std::int64_t, std::uint64_t> count;  // by candidate
        std::set<std::int64_t> further;
    };
    Result<Copies> copies(const Selection& selection, const Order& order) const;
    // All with the content of this one, live ones too, without itself and without layouts.
    Result<std::vector<Candidate>> of_same_content(const Candidate& candidate) const;

    // The files and folders of a source, live ones too, that records tell of, in the order of their ids; without
    // streams and what is the file system's own.
    Result<void> each_named(std::int64_t source, const std::function<bool(const lives::SeenFile&)>& visit) const;
    // The safety copies of a document of this path, in all volumes, without layouts.
    Result<std::vector<Candidate>> copies_of(const std::string& path) const;
    // All that bear this path themselves: as it is now, deleted, of earlier times; without layouts.
    Result<std::vector<Candidate>> of_path(const std::string& path) const;
    struct Document {
        std::string path;
        std::uint64_t lives = 0;   // finds that bear the path, live ones too, and copies
        std::uint64_t copies = 0;  // of these
        bool is_live = false;      // it is still there itself
    };
    // The documents with more than one life of which one is selected, in the order of their paths.
    Result<std::vector<Document>> documents_with_lives(const Selection& selection) const;
    // Of how many documents copies are known.
    Result<std::uint64_t> documents_with_copies() const;
    // One life of each selected document: the state that it had at this moment (seconds since 1970 in the digits of
    // this machine's clock, as Selection's times are), by what stands of it. The selection's folders and names mean the
    // documents'.
    Result<std::set<std::int64_t>> as_of(const Selection& selection, std::int64_t moment) const;

    // The pieces of all of them, on the medium, and whether the content was found right.
    Result<void> each_piece(
        std::int64_t volume,
        const std::function<void(std::int64_t candidate, const Extent&, bool is_proven)>& visit) const;
    // The stored pieces of all files, live ones too, with what their candidates are.
    Result<void> each_extent(
        const std::function<void(std::int64_t volume, State state, Band band, const Extent&)>& visit) const;
    // The stored pieces of all candidates of a source.
    Result<void> each_stored_extent(std::int64_t source,
                                    const std::function<void(std::int64_t candidate, const Extent&)>& visit) const;
    // A file of a source, live ones too, that tells of the whole of this range of the medium as its own; empty: none.
    Result<std::string> path_of_holder(std::int64_t source, const Extent& range) const;

    // Of those with an id above `after`.
    Result<std::int64_t> count(const Selection& selection, std::int64_t after = 0) const;
    Result<Totals> totals(const Selection& selection) const;
    // By volume; those of which nothing is selected are not among them.
    Result<std::map<std::int64_t, Totals>> totals_of_volumes(const Selection& selection) const;
    // Hands over each selected candidate of the page, which `visit` may keep; stops where it says false. Layouts only
    // when asked for.
    Result<void> each(const Selection& selection, const Order& order, bool with_layouts,
                      const std::function<bool(Candidate&)>& visit, const Page& page = {}) const;
    // The folders within a folder that hold finds, or are finds, by name; each found without a look at what lies in it.
    Result<std::vector<std::string>> folders_below(const std::string& folder) const;
    // The selected candidates that lie in this very folder, best prospect first, without layouts.
    Result<void> each_in_folder(const Selection& selection, const std::string& folder,
                                const std::function<bool(Candidate&)>& visit) const;
    // The totals of each group, in no order, by its path: the folder's parts; year, month and day of the last change
    // as they are shown;
    // or a single word. Those of which it is not known have an empty word.
    using GroupSink = std::function<void(GroupTree::Path path, const Totals&)>;
    Result<void> each_group(const Selection& selection, Grouping grouping, const GroupSink& visit) const;
    // What other candidates of the same volume share with one's pieces on the medium: live ones first, then by place.
    struct Overlap {
        std::int64_t candidate;
        std::string path;
        State state;
        std::size_t piece;          // of the layout
        Extent shared;              // on the medium
        bool is_same_file = false;  // or one that the file system lets share its content: it took nothing over
    };
    Result<std::vector<Overlap>> overlapping(const Candidate& candidate) const;
    // The finds with the same place and name, and streams of such files: earlier versions and what belongs to it.
    // Without the candidate itself and without layouts.
    Result<std::vector<Candidate>> of_same_name(const Candidate& candidate) const;
    // "PATH, written TIME"; empty where there is no such candidate.
    std::string name_of(std::int64_t id) const;

  private:
    mutable sqlite::Statement name_;
};

}  // namespace dredger
