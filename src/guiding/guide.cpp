#include "guiding/guide.h"

#include <algorithm>
#include <charconv>
#include <fmt/format.h>
#include <optional>

#include "base/amounts.h"
#include "base/shell_word.h"
#include "base/text.h"
#include "catalog/catalog.h"
#include "catalog/picks.h"
#include "guiding/action.h"
#include "guiding/advice.h"

namespace dredger::guiding {
namespace {

namespace fs = std::filesystem;
using Way = Reply::Way;

constexpr int kDone = 0, kDoneInPart = 1, kInterrupted = 130;
constexpr std::uint64_t kRowsAtOnce = 12;                 // with what stands around them they fit 24 lines
constexpr std::uint64_t kKept = std::uint64_t{16} << 20;  // bytes of a destination for catalog, log and report

// 1 to `most`; 0: it is none.
std::size_t number_in(const std::string& words, std::size_t most) {
    std::size_t number = 0;
    const auto [end, error] = std::from_chars(words.data(), words.data() + words.size(), number);
    return error == std::errc() && end == words.data() + words.size() && number <= most ? number : 0;
}

std::optional<bool> yes_or_no(const std::string& words) {
    const std::string word = folded(words);
    if (word == "y" || word == "yes") return true;
    if (word == "n" || word == "no") return false;
    return std::nullopt;
}

Question yes_no(std::string asks, bool fallback, std::string explains) {
    return {std::move(asks), fallback ? "yes" : "no", std::move(explains),
            [](const std::string& words) { return yes_or_no(words) ? std::string() : std::string("Answer y or n."); }};
}

// The choices of kind_choices() that the numbers name; 1 is everything, the first kind is 2.
std::optional<std::set<Kind>> kinds_in(const std::string& words) {
    std::set<Kind> kinds;
    bool all = false;
    std::string word;
    for (const char c : words + ',') {
        if (c != ',' && c != ' ') {
            word += c;
            continue;
        }
        if (word.empty()) continue;
        const std::size_t number = number_in(word, kind_choices().size() + 1);
        if (number == 0) return std::nullopt;
        if (number == 1)
            all = true;
        else
            kinds.insert(kind_choices()[number - 2].kind);
        word.clear();
    }
    if (!all && kinds.empty()) return std::nullopt;
    return all ? std::set<Kind>() : kinds;
}

bool says_yes(const Reply& reply) { return reply.way == Way::answered && *yes_or_no(reply.words); }

// The words of a command, with those that say what is wanted, and further ones.
std::vector<std::string> words_for(std::vector<std::string> words, const Wanted& wanted,
                                   const std::vector<std::string>& more = {}) {
    const std::vector<std::string> wanted_words = wanted.words();
    words.insert(words.end(), wanted_words.begin(), wanted_words.end());
    words.insert(words.end(), more.begin(), more.end());
    return words;
}

class Conversation {
  public:
    Conversation(Talk& talk, Machine& machine) : talk_(talk), machine_(machine) {}

    Ended run() {
        talk_.say(
            "The guided rescue. Nothing is written to the drive that lost the files.\n"
            "Enter takes what stands in [brackets]; ? explains, b goes back, q leaves and keeps everything.");
        Step step = Step::unfinished;
        std::vector<Step> asked;
        for (;;) {
            const Move move = take(step);
            switch (move.how) {
                case How::on:
                    if (move.has_asked) asked.push_back(step);
                    step = move.to;
                    break;
                case How::back:
                    if (asked.empty()) {
                        talk_.say("This is the first question.");
                        break;
                    }
                    step = asked.back();
                    asked.pop_back();
                    break;
                case How::later: return leave();
                case How::over: return move.ended;
            }
        }
    }

  private:
    enum class Step { unfinished, patient, kinds, name, changed, cheaper, place, copy, records, choose, finish };
    enum class How { on, back, later, over };
    struct Move {
        How how = How::on;
        Step to = Step::finish;
        bool has_asked = true;
        Ended ended = Ended::done;
    };
    static Move on_to(Step step) { return {How::on, step, true, {}}; }
    static Move past_to(Step step) { return {How::on, step, false, {}}; }
    static Move unanswered(const Reply& reply) { return {reply.way == Way::back ? How::back : How::later, {}, {}, {}}; }

    Move take(Step step) {
        switch (step) {
            case Step::unfinished: return ask_unfinished();
            case Step::patient: return ask_patient();
            case Step::kinds: return ask_kinds();
            case Step::name: return ask_name();
            case Step::changed: return ask_changed();
            case Step::cheaper: return tell_cheaper_ways();
            case Step::place: return ask_place();
            case Step::copy: return copy_first();
            case Step::records: return read_records();
            case Step::choose: return choose();
            case Step::finish: break;
        }
        return finish();
    }

    Ended leave() {
        if (rescue_.folder.empty())
            talk_.say("\nNothing was begun yet. dredger guide starts again.");
        else
            talk_.say(fmt::format("\nEverything is kept in {}\ndredger guide goes on there.", rescue_.folder.string()));
        return Ended::later;
    }

    int run(const std::vector<std::string>& words) {
        rescue_.remember(command_line(words));
        return talk_.run(words);
    }

    Move ask_unfinished() {
        std::vector<fs::path> folders;
        for (const Place& place : machine_.places(""))
            if (!place.folder.empty()) folders.push_back(place.folder);
        const std::vector<Rescue> unfinished = unfinished_in(folders);
        if (unfinished.empty()) return past_to(Step::patient);
        talk_.heading("A rescue was left");
        for (std::size_t i = 0; i < unfinished.size(); ++i)
            talk_.say(fmt::format("{:>3}  {} of {}, begun {}\n       {}", i + 1, unfinished[i].wanted.told(),
                                  printable(unfinished[i].patient), unfinished[i].begun,
                                  printable(unfinished[i].folder.string())));
        const std::size_t count = unfinished.size();
        const Reply reply = talk_.ask({"Go on with which one? n begins a new one", "1",
                                       "What was found and chosen before is still there; a search goes on where it "
                                       "was stopped.",
                                       [count](const std::string& words) {
                                           return words == "n" || number_in(words, count) > 0
                                                      ? std::string()
                                                      : std::string("Write its number, or n.");
                                       }});
        if (reply.way != Way::answered) return unanswered(reply);
        if (reply.words == "n") return on_to(Step::patient);
        rescue_ = unfinished[number_in(reply.words, count) - 1];
        auto known = machine_.patient(rescue_.source);
        if (!known) {
            talk_.say("It can't be read now: " + known.error().line());
            rescue_ = {};
            return past_to(Step::patient);
        }
        patient_ = std::move(*known);
        std::error_code failed;
        has_restored_ = fs::exists(rescue_.files(), failed);
        return on_to(Step::copy);
    }

    void list_patients() {
        for (std::size_t i = 0; i < patients_.size(); ++i) {
            const Patient& one = patients_[i];
            talk_.say(fmt::format("{:>3}  {}  {}{}", i + 1, one.path, printable(one.what),
                                  one.runs_this_system ? "; this system runs from it" : ""));
            for (const std::vector<std::string>* lines : {&one.holds, &one.health})
                for (const std::string& line : *lines) talk_.say("       " + printable(line));
        }
    }

    // What Enter means: a card or stick sooner than what the system runs from.
    std::string likely_patient() const {
        const auto is_likely = [](const Patient& one) { return !one.runs_this_system && one.is_readable; };
        const auto found = std::find_if(patients_.begin(), patients_.end(), is_likely);
        if (found != patients_.end()) return std::to_string(found - patients_.begin() + 1);
        return patients_.empty() ? "r" : "1";
    }

    Move ask_patient() {
        talk_.heading("Which drive or card held the files?");
        patients_ = machine_.patients();
        list_patients();
        if (patients_.empty()) talk_.say("No drive is to be seen. Attach it, and press Enter.");
        const std::size_t count = patients_.size();
        const Reply reply = talk_.ask(
            {"Its number, the path of a device or image, or r to look again", likely_patient(),
             "The drive is only read: nothing on it is changed, mounted or repaired. Where a copy of it was made, give "
             "the path of the copy.",
             [](const std::string& words) {
                 return words.empty() ? std::string("Write its number, or a path.") : std::string();
             }});
        if (reply.way != Way::answered) return unanswered(reply);
        if (reply.words == "r") return past_to(Step::patient);
        if (const std::size_t number = number_in(reply.words, count); number > 0) {
            patient_ = patients_[number - 1];
        } else {
            auto typed = machine_.patient(reply.words);
            if (!typed) {
                talk_.say(typed.error().line());
                return past_to(Step::patient);
            }
            patient_ = std::move(*typed);
        }
        return is_fit() ? on_to(Step::kinds) : past_to(Step::patient);
    }

    // What stands in the way of reading the patient; asks where it is only unwise.
    bool is_fit() {
        if (!patient_.is_readable) {
            talk_.say(fmt::format("You may not read {}: only root may. Leave with q, then: sudo dredger guide",
                                  patient_.path));
            return false;
        }
        bool is_unwise = false;
        if (patient_.runs_this_system) {
            is_unwise = true;
            talk_.say(
                "This system runs from that drive: whatever it writes may overwrite the lost files. Better shut it "
                "down, and start the computer from a rescue stick (dredger stick makes one).");
        } else if (!patient_.written.empty()) {
            is_unwise = true;
            for (const std::string& sentence : patient_.written) talk_.say(printable(sentence));
        }
        if (is_unwise) {
            const Reply reply = talk_.ask(yes_no("Go on all the same?", false,
                                                 "A file is lost for good once something new is written to its "
                                                 "place. A system writes all the time, even if nobody works on it."));
            if (!says_yes(reply)) return false;
        }
        rescue_.patient = rescue_.source = patient_.path;
        return true;
    }

    Move ask_kinds() {
        talk_.heading("What was lost?");
        talk_.say("  1  everything");
        std::string usual;
        for (std::size_t i = 0; i < kind_choices().size(); ++i) {
            talk_.say(fmt::format("  {}  {}", i + 2, kind_choices()[i].plural));
            if (rescue_.wanted.kinds.contains(kind_choices()[i].kind))
                usual += (usual.empty() ? "" : ",") + std::to_string(i + 2);
        }
        const Reply reply =
            talk_.ask({"Its number; several like 2,5", usual.empty() ? "1" : usual,
                       "Everything is searched for whatever is said here. It only says what is shown "
                       "first; later it can be changed.",
                       [](const std::string& words) {
                           return kinds_in(words) ? std::string() : std::string("Write numbers from the list.");
                       }});
        if (reply.way != Way::answered) return unanswered(reply);
        rescue_.wanted.kinds = *kinds_in(reply.words);
        return on_to(Step::name);
    }

    Move ask_name() {
        const std::string usual = rescue_.wanted.name.empty() ? "not known" : rescue_.wanted.name;
        const Reply reply = talk_.ask({"A word of its name", usual,
                                       "A part of a file's name, as \"permit\" or \"DSC\"; letter case does not "
                                       "matter. With * or ? it is the whole name: *.docx. What is found by its "
                                       "content alone has lost its name and is not among these."});
        if (reply.way != Way::answered) return unanswered(reply);
        rescue_.wanted.name = reply.words == "not known" || reply.words == "-" ? "" : reply.words;
        return on_to(Step::changed);
    }

    Move ask_changed() {
        const std::string usual = rescue_.wanted.changed.empty() ? "not known" : rescue_.wanted.changed;
        const Reply reply =
            talk_.ask({"When was it changed last", usual,
                       "2026-05 or 2026-05-01..2026-06-15, ..2025, yesterday, 3d.. for the last three days. When a "
                       "photo was taken, a text last saved. Files whose time is not known are left out then.",
                       [](const std::string& words) {
                           return words == "not known" || words == "-" || parse_times(words)
                                      ? std::string()
                                      : std::string("Write it like 2026-05, 2026-05-01..2026-06-15 or 3d..");
                       }});
        if (reply.way != Way::answered) return unanswered(reply);
        rescue_.wanted.changed = reply.words == "not known" || reply.words == "-" ? "" : reply.words;
        if (!rescue_.folder.empty()) {
            (void)rescue_.save();
            return on_to(Step::choose);
        }
        return on_to(Step::cheaper);
    }

    Move tell_cheaper_ways() {
        talk_.heading("First what costs nothing: could it be somewhere else?");
        for (const std::string& way : cheaper_ways(rescue_.wanted)) talk_.say("  - " + way);
        const Reply reply = talk_.ask({"Enter goes on; found ends here", "go on",
                                       "Looking there harms nothing, and what is found there is whole. The drive can "
                                       "wait meanwhile, if nothing is written to it.",
                                       [](const std::string& words) {
                                           return words == "go on" || words == "found"
                                                      ? std::string()
                                                      : std::string("Press Enter, or write found.");
                                       }});
        if (reply.way != Way::answered) return unanswered(reply);
        if (reply.words == "go on") return on_to(Step::place);
        talk_.say("Good. Copy it to a second place, too: what exists twice is lost only once.");
        return {How::over, {}, true, Ended::found_elsewhere};
    }

    Move ask_place() {
        talk_.heading("Where shall the found files go?");
        const std::vector<Place> places = machine_.places(rescue_.patient);
        for (std::size_t i = 0; i < places.size(); ++i)
            talk_.say(fmt::format(
                "{:>3}  {}  {}{}", i + 1, places[i].folder.empty() ? places[i].device : places[i].folder.string(),
                printable(places[i].what), places[i].room > 0 ? ", free: " + size_text(places[i].room) : ""));
        if (places.empty()) talk_.say("No other drive is ready to be written to. Attach one, or give a folder on one.");
        const std::size_t count = places.size();
        const bool is_settled = !rescue_.folder.empty();
        if (is_settled) talk_.say("It goes to " + printable(rescue_.folder.string()) + " so far.");
        const Reply reply = talk_.ask(
            {machine_.attaches() ? "Its number, a folder, a share (//host/share, user@host:/folder), or r to look again"
                                 : "Its number, a folder on another drive, or r to look again",
             is_settled   ? "stay"
             : count == 0 ? "r"
                          : "1",
             "Never the drive that lost the files: what is written there may overwrite what is looked for. Only "
             "places that are safe are offered, with their free space.",
             [count, is_settled](const std::string& words) {
                 const bool is_known = words == "r" || (words == "stay" && is_settled) || number_in(words, count) > 0;
                 return is_known || words.find('/') != words.npos
                            ? std::string()
                            : std::string("Write a number from the list, or a folder with its path.");
             }});
        if (reply.way != Way::answered) return unanswered(reply);
        if (reply.words == "r") return past_to(Step::place);
        if (reply.words == "stay" && is_settled) return on_to(Step::copy);
        const std::size_t number = number_in(reply.words, count);
        Result<Place> place = number > 0 && !places[number - 1].folder.empty() ? Result<Place>(places[number - 1])
                              : number > 0 ? machine_.attach(places[number - 1].device, rescue_.patient)
                              : machine_.attaches() && is_share(reply.words)
                                  ? machine_.attach(reply.words, rescue_.patient)
                                  : machine_.place(reply.words, rescue_.patient);
        if (place)
            if (const auto settled = rescue_.settle(place->folder); !settled) place = tl::unexpected(settled.error());
        if (!place) {
            talk_.say(place.error().line());
            return past_to(Step::place);
        }
        talk_.say("Everything goes to " + printable(rescue_.folder.string()));
        return on_to(Step::copy);
    }

    // "/media/tern  /dev/sdc1, exfat, 12.0 GiB free"
    static std::string told(const Place& place) {
        std::string text = place.folder.empty() ? place.device : place.folder.string();
        if (!place.what.empty()) text += "  " + printable(place.what);
        if (place.room > 0) text += fmt::format("{}{} free", place.what.empty() ? "  " : ", ", size_text(place.room));
        return text;
    }

    static bool is_share(const std::string& words) {
        return words.starts_with("//") || (!words.starts_with("/") && words.find(":/") != words.npos);
    }

    Move copy_first() {
        if (!patient_.is_failing || rescue_.source != rescue_.patient) return past_to(Step::records);
        talk_.heading("The drive is failing");
        for (const std::string& sentence : patient_.health) talk_.say(printable(sentence));
        talk_.say("A copy reads each place once, the good ones first; everything else is then done with the copy.");
        const Reply reply =
            talk_.ask(yes_no("Copy it first?", true,
                             "A drive that fails may last for hours or for minutes. The copy is as large as the drive; "
                             "it can be stopped with Ctrl-C and goes on later."));
        if (reply.way != Way::answered) return unanswered(reply);
        if (!says_yes(reply)) return on_to(Step::records);
        const int code = run({"image", rescue_.patient, rescue_.copy().string()});
        if (code == kInterrupted) return {How::later, {}, {}, {}};
        if (!fs::exists(rescue_.copy())) return past_to(Step::place);
        rescue_.source = rescue_.copy().string();
        (void)rescue_.save();
        return on_to(Step::records);
    }

    Move read_records() {
        talk_.heading("Bins and records first: that takes seconds to minutes");
        std::vector<std::string> words = {"scan", rescue_.source, "-c", rescue_.catalog().string()};
        if (rescue_.wanted.kinds.contains(Kind::mail)) words.insert(words.begin() + 1, "--mail");
        const int code = run(words);
        if (code == kInterrupted) {
            const Move stopped = after_stop();
            if (stopped.how != How::on) return stopped;
        } else if (!has_catalog()) {
            talk_.say(
                "No records can be read there: what they stood in is gone, or of a kind that is not known. The "
                "surface still can be searched for content.");
        }
        list_bins();
        list();
        return past_to(Step::choose);
    }

    // Of a search that was stopped by hand.
    Move after_stop() {
        talk_.say("Stopped. What was found is kept, and the search can go on where it was.");
        const Reply reply = talk_.ask(yes_no("Look at what was found so far?", true,
                                             "No leaves the guide; it goes on another time where it was."));
        if (!says_yes(reply)) return {How::later, {}, {}, {}};
        return past_to(Step::choose);
    }

    bool has_catalog() const {
        std::error_code failed;
        return fs::exists(rescue_.catalog(), failed);
    }

    std::uint64_t count_of(const Selection& selection) const {
        const auto catalog = Catalog::open(rescue_.catalog());
        if (!catalog) return 0;
        const auto count = catalog->count(selection);
        return count && *count > 0 ? static_cast<std::uint64_t>(*count) : 0;
    }

    // What lies in bins is whole: it is shown by itself, before all.
    void list_bins() {
        Selection binned = rescue_.wanted.selection();
        binned.states = {State::trashed};
        // Where there is nothing else, the list shows them.
        const std::uint64_t count = count_of(binned);
        if (count == 0 || count == count_of(rescue_.wanted.selection())) return;
        talk_.heading("In the bins, whole");
        list_of(rescue_.wanted, {"--state", "trashed"});
    }

    void list_of(const Wanted& wanted, std::vector<std::string> more) {
        more.insert(more.end(), {"--limit", std::to_string(kRowsAtOnce)});
        (void)run(words_for({"list", rescue_.catalog().string()}, wanted, more));
    }

    // Where nothing is there of what is wanted, less is asked for, and that is said.
    void list() {
        listed_ = rescue_.wanted;
        while (count_of(listed_.selection()) == 0 && !listed_.is_anything()) {
            const Wanted wider = listed_.wider();
            talk_.say(fmt::format("Nothing was found of {}; now: {}", listed_.told(), wider.told()));
            listed_ = wider;
        }
        shown_ = 0;
        list_more();
    }

    void list_more() {
        const std::uint64_t count = count_of(listed_.selection());
        if (count == 0) {
            talk_.say("Nothing that was deleted was found so far.");
            return;
        }
        if (shown_ >= count) {
            talk_.say("That was all; the list from its start:");
            shown_ = 0;
        }
        if (shown_ == 0) talk_.heading(fmt::format("Found of {}, the best first", listed_.told()));
        std::vector<std::string> from;
        if (shown_ > 0) from = {"--from", std::to_string(shown_ + 1)};
        list_of(listed_, std::move(from));
        shown_ += kRowsAtOnce;
    }

    Move choose() {
        if (rescue_.wanted != listed_) list();
        const bool is_empty = count_of(listed_.selection()) == 0;
        talk_.heading("Is what you miss among them?");
        for (const std::string& line : action_lines()) talk_.say("  " + line);
        const Reply reply = talk_.ask(
            {"What now",
             is_empty     ? (rescue_.has_searched ? "f" : "d")
             : is_served_ ? "f"
                          : "all",
             "The number in front of a find takes it. The prospect says how much of it will come back right; \"sound\" "
             "is all of it. d reads the whole drive for content that no record tells of any more: it takes as long as "
             "the drive takes to be read, and can be stopped.",
             [](const std::string& words) {
                 const auto action = parse_action(words);
                 return action ? std::string() : action.error().line() + ".";
             }});
        if (reply.way != Way::answered) return unanswered(reply);
        const Action action = *parse_action(reply.words);
        switch (action.what) {
            case Action::What::take: return take_finds({"--id", action.numbers});
            case Action::What::take_all: return take_all();
            case Action::What::more: list_more(); break;
            case Action::What::show: (void)run({"show", rescue_.catalog().string(), action.numbers, "--text"}); break;
            case Action::What::lives: show_lives(); break;
            case Action::What::surface: return search_surface();
            case Action::What::ask_anew: return on_to(Step::kinds);
            case Action::What::finish: return past_to(Step::finish);
        }
        return past_to(Step::choose);
    }

    void show_lives() { (void)run(words_for({"versions", rescue_.catalog().string()}, listed_)); }

    Move search_surface() {
        talk_.say("The whole surface is searched; Ctrl-C stops it, and keeps what was found.");
        const int code = run({"scan", "--deep", rescue_.source, "-c", rescue_.catalog().string()});
        if (code == kInterrupted) {
            const Move stopped = after_stop();
            if (stopped.how != How::on) return stopped;
        }
        if (!has_catalog()) talk_.say("It could not be searched. Is the drive still there?");
        rescue_.has_searched = code == kDone || code == kDoneInPart;
        (void)rescue_.save();
        is_served_ = false;
        list();
        return past_to(Step::choose);
    }

    Move take_all() { return take_finds(words_for({}, listed_, {"--prospect", "1.."})); }

    Move take_finds(const std::vector<std::string>& which) {
        std::vector<std::string> words = {"picks", "add", rescue_.picks().string(), rescue_.catalog().string()};
        words.insert(words.end(), which.begin(), which.end());
        if (run(words) != kDone) return past_to(Step::choose);
        const std::uint64_t needed = bytes_of_picks(), room = machine_.room_in(rescue_.folder);
        if (needed + kKept > room) {
            talk_.say(fmt::format("They take {}, and there is room for {} in {}.", size_text(needed),
                                  size_text(room > kKept ? room - kKept : 0), printable(rescue_.folder.string())));
            const Reply reply = talk_.ask(yes_no("Restore what there is room for?", false,
                                                 "No keeps the choice: make room or choose fewer (delete picks.csv "
                                                 "there to begin the choice anew), then take them again."));
            if (reply.way == Way::later) return unanswered(reply);
            if (!says_yes(reply)) return past_to(Step::choose);
        }
        const int code = run({"restore", "--picks", rescue_.picks().string(), "--to", rescue_.files().string()});
        if (code == kInterrupted) return {How::later, {}, {}, {}};
        has_restored_ = is_served_ = true;
        return past_to(Step::choose);
    }

    std::uint64_t bytes_of_picks() const {
        const auto catalog = Catalog::open(rescue_.catalog());
        const auto picks = read_picks(rescue_.picks());
        if (!catalog || !picks) return 0;
        Selection selection;
        selection.states = {};
        for (const auto& [id, line] : picks->lines_of(rescue_.catalog().filename().string())) selection.only.insert(id);
        const auto totals = catalog->totals(selection);
        return totals ? totals->bytes : 0;
    }

    Move finish() {
        if (!has_restored_) {
            const Reply reply =
                talk_.ask(yes_no("Nothing was restored yet. End all the same?", false,
                                 "All that was found stays in the catalog; dredger guide begins anew from there."));
            if (reply.way == Way::later) return unanswered(reply);
            if (!says_yes(reply)) return past_to(Step::choose);
        }
        const bool is_told = !has_catalog() || report();
        rescue_.is_done = true;
        if (const auto saved = rescue_.save(); !saved) talk_.say(saved.error().line());
        talk_.say(fmt::format("\nEverything is in {}\nWhat to do next:", printable(rescue_.folder.string())));
        if (has_restored_)
            talk_.say(
                "  - Open the files in files/ and look whether they are right; restore.log tells of each.\n"
                "  - What opens with faults may be mended: dredger repair files --to mended\n"
                "  - Copy them to a second place before the old drive is used again.");
        talk_.say(fmt::format("  - Until then write nothing to {}: what was missed can still be searched for.",
                              printable(rescue_.patient)));
        return {How::over, {}, true, is_told ? Ended::done : Ended::without_report};
    }

    bool report() {
        talk_.heading("The report");
        std::vector<std::string> words = {"report", rescue_.catalog().string(), "--to", rescue_.report().string()};
        if (has_restored_) words.insert(words.end(), {"--restored", rescue_.files().string()});
        const int code = run(words);
        return code == kDone || code == kDoneInPart;  // in part: there is nothing to tell of
    }

    Talk& talk_;
    Machine& machine_;
    Rescue rescue_;
    std::vector<Patient> patients_;
    Patient patient_;
    Wanted listed_;  // what the list on the screen shows
    std::uint64_t shown_ = 0;
    bool has_restored_ = false;
    bool is_served_ = false;  // what the list shows was restored as chosen
};

}  // namespace

Ended guide(Talk& talk, Machine& machine) { return Conversation(talk, machine).run(); }

}  // namespace dredger::guiding
