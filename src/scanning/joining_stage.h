// The last part of the deep scan of a stretch: what was found torn, and what records tell of without knowing where its
// rest lies, is put together from what nobody holds.
#pragma once

#include "carving/find.h"
#include "carving/puzzle.h"
#include "scanning/scan_session.h"

namespace dredger {

class JoiningStage {
  public:
    // `ground`: what was searched, on the medium; `filesystem`: that of the volume, or null.
    JoiningStage(ScanSession& session, const ScanRequest& request, const ScannedVolume& volume,
                 const FileSystem* filesystem, const std::vector<Extent>& ground);

    struct Outcome {
        bool stopped = false;
        std::size_t joined = 0;   // files that are whole now
        std::size_t removed = 0;  // finds that are parts of these, or nothing without a rest that was not found
        std::vector<std::int64_t> changed = {};  // finds whose content is another one now
    };
    // Changes the catalog, within the transaction that is open.
    Result<Outcome> run();

  private:
    // A candidate that is not live, as far as the stage looks at it.
    struct Seen {
        Candidate candidate;
        std::vector<Extent> pieces;  // on the ground
        const Format* format = nullptr;
        Measured measured = {};        // of the ground from its start on; of what is firm nothing is measured
        std::uint64_t own = 0;         // bytes up to where the next one begins that is not text
        bool is_firm = false;          // its content proves where all of it lies
        bool is_head = false;          // nothing that goes with its beginning follows
        bool is_followed = false;      // something stands behind its end in the same sector
        bool is_gone = false;          // it was a part of another one
        bool is_joined = false;        // whole, or further than it seemed
        bool is_whole = false;         // was put together
        bool is_proven = false;        // as that, by its content
        bool is_contradicted = false;  // a part of another one lies in it
        // Where one begins that only its parts hold together, and within which this one lies: either that one is torn,
        // or this is a part of it.
        std::optional<std::uint64_t> around = {};

        std::uint64_t start() const { return pieces.front().offset; }
        std::uint64_t end() const { return pieces.front().end(); }  // of its first piece
        bool is_held_by_parts() const;
        bool is_find() const { return candidate.record.origin == Origin::signature; }
    };

    Result<void> collect();
    void collect(Candidate& candidate);
    void tell_within();
    Result<void> remove_parts();
    void tell_own();
    bool measure_all();
    void learn_grain();
    void learn_whether_sectors_are_filled();
    Result<Remains> remains_of_proven();
    Remains without_joined(Remains remains) const;
    Remains without_settled(Remains remains) const;
    Result<bool> follow_left_layouts();
    std::optional<Joined> along(const Seen& seen, const std::vector<Extent>& on_volume) const;
    Result<bool> put_together();
    Result<bool> put_together(const std::vector<std::size_t>& candidates, Remains remains, const JoinLimits& limits);
    std::vector<std::size_t> contradicted();
    std::optional<TornFile> torn(const Seen& seen) const;
    bool is_settled(const Seen& seen) const;
    Result<void> take(Seen& seen, const Joined& joined);
    Result<void> take_find(Candidate& candidate, Find&& find);
    Result<void> take_record(Candidate& candidate, const Find& find);
    Result<void> absorb(const Seen& seen);
    Result<void> remove_unjoined();
    std::vector<Seen>::iterator first_from(std::uint64_t start);
    std::optional<std::uint64_t> on_ground(std::uint64_t on_medium) const;

    ScanSession& session_;
    const ScanRequest& request_;
    const ScannedVolume& volume_;
    const FileSystem* filesystem_;
    std::shared_ptr<const Content> ground_;
    std::vector<std::pair<Extent, std::uint64_t>> places_;  // of the ground on the medium, by place; and their starts
    std::vector<Seen> seen_;                                // by their starts
    std::uint64_t grain_ = 4096, phase_ = 0;                // bytes
    bool sectors_are_filled_ = true;                        // with zeros, behind the end of a file
    Outcome outcome_;
};

}  // namespace dredger
