#include "lives/finder.h"

#include <algorithm>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/format.h"
#include "lives/habits/families.h"

namespace dredger::lives {
namespace {

constexpr std::size_t kMostAlike = 64;             // documents whose content is compared with one copy's
constexpr std::size_t kMostAnywhere = 20'000;      // documents that may be the one, wherever they lie
constexpr std::size_t kMostSketches = 2000;        // that are kept
constexpr std::size_t kMostHidden = 100'000;       // files and folders
constexpr std::uint64_t kMostCompared = 64 << 20;  // bytes of a content that is compared
constexpr double kKin = 0.2;                       // share of a copy that has to stand in its document
// What Windows hides for itself lies below these.
constexpr std::string_view kSystemFolders[] = {"/appdata/", "/programdata/", "/windows/", "/program files", "/$"};
constexpr double kAsGood = 0.01;  // a share that is smaller by so little says nothing else

std::string as_key(std::string_view name) { return composed(folded(name)); }

std::string_view stem_of(std::string_view name) {
    const auto point = name.rfind('.');
    return point == name.npos || point == 0 ? name : name.substr(0, point);
}

std::string_view without_first_character(std::string_view name) {
    std::size_t at = name.empty() ? 0 : 1;
    while (at < name.size() && (static_cast<unsigned char>(name[at]) & 0xC0) == 0x80) ++at;
    return name.substr(at);
}

// "save of Letter to the warden", "of Letter ..." down to "warden": what can be the whole of a name, the longest first.
std::vector<std::string_view> endings_of(std::string_view text) {
    std::vector<std::string_view> endings;
    if (!text.empty()) endings.push_back(text);
    for (std::size_t at = text.find(' '); at != text.npos; at = text.find(' ', at + 1))
        if (at + 1 < text.size()) endings.push_back(text.substr(at + 1));
    return endings;
}

// How many folders two paths have in common from the top.
std::size_t common_folders(std::string_view a, std::string_view b) {
    std::size_t count = 0;
    while (!a.empty() && !b.empty()) {
        const std::size_t end_a = std::min(a.find('/'), a.size()), end_b = std::min(b.find('/'), b.size());
        if (a.substr(0, end_a) != b.substr(0, end_b)) break;
        ++count;
        a.remove_prefix(std::min(end_a + 1, a.size()));
        b.remove_prefix(std::min(end_b + 1, b.size()));
    }
    return count;
}

// Whether one path is the other below some folder.
bool is_end_of(std::string_view end, std::string_view path) {
    return path.ends_with(end) && (path.size() == end.size() || path[path.size() - end.size() - 1] == '/');
}

std::string path_of(const SeenFile& file) { return joined(file.folder, file.name); }
std::string key_of_folder(const SeenFile& file) { return fmt::format("{}:{}", file.volume, file.folder); }

// Under these a document is found.
std::string name_key(std::string_view name) { return "n" + as_key(name); }
std::string stem_key(std::string_view stem) { return "s" + as_key(stem); }
std::string tail_key(std::string_view tail) { return "t" + as_key(tail); }

std::vector<std::string> keys_of_document(std::string_view name) {
    std::vector<std::string> keys = {name_key(name), stem_key(stem_of(name))};
    // Owner notes lack none, one or two of its first characters.
    std::string_view tail = name;
    for (int lacking = 0; lacking <= 2 && !tail.empty(); ++lacking) {
        keys.push_back(tail_key(tail));
        tail = without_first_character(tail);
    }
    return keys;
}

// The keys that a copy asks for; the first ones say most.
std::vector<std::string> keys_wanted(const Captured& captured) {
    std::vector<std::string> keys;
    if (!captured.name.empty()) keys.push_back(name_key(captured.name));
    if (!captured.stem.empty()) keys.push_back(stem_key(captured.stem));
    if (!captured.tail.empty()) keys.push_back(tail_key(captured.tail));
    for (const std::string_view ending : endings_of(captured.ending)) keys.push_back(stem_key(ending));
    return keys;
}

// The document's name as far as the copy tells it in full; empty: it does not.
std::string told_name(const Habit& habit, const Captured& captured, std::string_view copy) {
    if (!captured.name.empty()) return captured.name;
    if (captured.stem.empty() || habit.extensions != "=") return {};
    const std::string extension = extension_of(copy);
    return extension.empty() ? captured.stem
                             : captured.stem + std::string(copy.substr(copy.size() - extension.size() - 1));
}

// The path that a copy's folder tells; empty: none.
std::string told_path(const Habit& habit, const Captured& captured, const SeenFile& copy) {
    const std::string name = told_name(habit, captured, copy.name);
    if (name.empty()) return {};
    switch (habit.where) {
        case Where::beside: return joined(copy.folder, name);
        case Where::above: return joined(split_path(copy.folder).folder, name);
        case Where::at_path: return joined(captured.path, name);
        default: return name;
    }
}

bool is_of_system(std::string_view folder) {
    const std::string key = "/" + folded(folder) + "/";
    return std::any_of(std::begin(kSystemFolders), std::end(kSystemFolders),
                       [&](std::string_view part) { return key.find(part) != key.npos; });
}

// What media players leave beside music.
bool is_cover(std::string_view name) {
    const std::string key = folded(name);
    return key.starts_with("albumart") || key == "folder.jpg";
}

bool is_blank(std::string_view name) {
    constexpr std::string_view kNoBreakSpace = "\u00A0";
    while (!name.empty()) {
        if (name.starts_with(kNoBreakSpace))
            name.remove_prefix(kNoBreakSpace.size());
        else if (name.front() == ' ' || name.front() == '_')
            name.remove_prefix(1);
        else
            return false;
    }
    return true;
}

bool is_somebodys(std::string_view name) {
    switch (kind_of_name(name)) {
        case Kind::picture:
        case Kind::video:
        case Kind::audio:
        case Kind::document: return true;
        default: return false;
    }
}

std::string sentence(const Habit& habit, const ToldByContent& told, const std::string& how) {
    std::string text = fmt::format("its name and place are those of {}", habit.left_by);
    for (const std::string& fact : told.facts) text += "; " + fact;
    return how.empty() ? text : text + "; " + how;
}

}  // namespace

void RoleFinder::look_for_copies(const SeenFile& file) {
    if (!file.snapshot.empty() && take_snapshot_file(file)) return;
    look_for_hidden(file);
    if (file.is_folder) return;
    std::vector<Claim> claims = habits_.claims_of(file.folder, file.name);
    // Deletion on FAT takes the first character of a short name: the names of office programs' copies begin with this
    // one.
    if (claims.empty() && !file.name_is_whole && file.name.starts_with('_'))
        claims = habits_.claims_of(file.folder, "~" + file.name.substr(1));
    for (Claim& claim : claims) take_claim(file, std::move(claim));
}

// Its path leads through a folder that bears the snapshot's name, and below that it is the document's, or the end of
// it; or it is the document's. False: it is the document itself, as the snapshot keeps it.
bool RoleFinder::take_snapshot_file(const SeenFile& file) {
    static constexpr Habit kOfSnapshot{
        .role = Role::history, .where = Where::at_path, .extensions = {}, .left_by = "a snapshot"};
    Claim claim{&kOfSnapshot, {}};
    claim.captured.name = file.name;
    claim.captured.date = file.snapshot_made;
    const std::string path = file.folder + "/";
    bool is_below = false;
    for (const std::string& part : {file.snapshot + "/", fmt::format("(snapshot {})/", file.snapshot)}) {
        const auto at = path.starts_with(part) ? 0 : path.find("/" + part);
        if (at == path.npos) continue;
        claim.captured.path = path.substr(at + part.size() + (at > 0 ? 1 : 0));
        if (!claim.captured.path.empty()) claim.captured.path.pop_back();
        is_below = true;
    }
    if (file.is_folder || (!is_below && !file.is_live)) return is_below;
    if (!is_below) claim.captured.path = file.folder;
    Claimed claimed{file, std::move(claim), {}};
    claimed.told.facts.push_back("the snapshot is " + file.snapshot);
    wanted_keys_.insert(name_key(file.name));
    claimed_.insert(file.id);
    claims_.push_back(std::move(claimed));
    return true;
}

void RoleFinder::take_claim(const SeenFile& file, Claim&& claim) {
    Claimed claimed{file, std::move(claim), {}};
    const Habit& habit = *claimed.claim.habit;
    if (habit.look != nullptr && file.has_content && file.size > 0)
        if (const auto content = contents_(file.id)) {
            Budget budget;
            Reader reader(*content, budget);
            claimed.told = habit.look(reader);
            if (!claimed.told.is_one) return;
        }
    for (std::string& key : keys_wanted(claimed.claim.captured)) wanted_keys_.insert(std::move(key));
    if (!claimed.told.path.empty()) wanted_keys_.insert(name_key(split_path(claimed.told.path).name));
    if (habit.by_content && habit.where == Where::beside) wanted_folders_.insert(key_of_folder(file));
    wants_anywhere_ = wants_anywhere_ || (habit.by_content && habit.where == Where::anywhere);
    claimed_.insert(file.id);
    claims_.push_back(std::move(claimed));
}

void RoleFinder::look_for_documents(const SeenFile& file) {
    if (file.is_folder || claimed_.contains(file.id) || claims_.empty()) return;
    std::vector<std::string> keys = keys_of_document(file.name);
    std::erase_if(keys, [&](const std::string& key) { return !wanted_keys_.contains(key); });
    const bool in_folder = wanted_folders_.contains(key_of_folder(file));
    const bool in_any = wants_anywhere_ && anywhere_.size() < kMostAnywhere &&
                        can_be_of({.extensions = habits::kOfficeFiles}, extension_of(file.name), {});
    if (keys.empty() && !in_folder && !in_any) return;
    documents_.push_back(std::make_unique<SeenFile>(file));
    const SeenFile* document = documents_.back().get();
    for (const std::string& key : keys) by_key_[key].push_back(document);
    if (in_folder) by_folder_[key_of_folder(file)].push_back(document);
    if (in_any) anywhere_.push_back(document);
}

std::map<std::int64_t, SafetyCopy> RoleFinder::roles(const std::function<bool(std::size_t done)>& go_on) {
    std::map<std::int64_t, SafetyCopy> roles;
    std::size_t done = 0;
    for (const Claimed& claimed : claims_) {
        if (!go_on(done++)) return {};
        if (roles.contains(claimed.file.id)) continue;
        if (auto role = role_of(claimed)) roles[claimed.file.id] = std::move(*role);
    }
    find_hidden(roles);
    return roles;
}

std::optional<SafetyCopy> RoleFinder::role_of(const Claimed& claimed) {
    const Habit& habit = *claimed.claim.habit;
    const Captured& captured = claimed.claim.captured;
    SafetyCopy copy{habit.role, {}, {}, captured.date};
    std::string how;
    if (habit.by_content) {
        if (const auto kin = kin_of(claimed)) {
            copy.of = kin->path;
            how = kin->how;
        } else if (habit.needs_document) {
            return std::nullopt;
        }
    } else if (habit.where != Where::nowhere) {
        if (Documents documents = named_by(claimed); !documents.empty()) {
            Found found = nearest(claimed, std::move(documents));
            copy.of = std::move(found.path);
            how = std::move(found.how);
        } else if (habit.needs_document) {
            return std::nullopt;
        } else {
            copy.of = claimed.told.path.empty() ? told_path(habit, captured, claimed.file) : claimed.told.path;
        }
    }
    copy.why = sentence(habit, claimed.told, how);
    return copy;
}

// The documents of which its name, or what it says itself, can be meant.
RoleFinder::Documents RoleFinder::named_by(const Claimed& claimed) const {
    if (!claimed.told.path.empty()) {
        Documents told;
        const auto named = by_key_.find(name_key(split_path(claimed.told.path).name));
        if (named != by_key_.end())
            for (const SeenFile* document : named->second)
                if (is_end_of(claimed.told.path, path_of(*document)) ||
                    is_end_of(path_of(*document), claimed.told.path))
                    told.push_back(document);
        if (!told.empty()) return told;
    }
    for (const std::string& key : keys_wanted(claimed.claim.captured))
        if (Documents documents = named_at_its_place(claimed, key); !documents.empty()) return documents;
    return {};
}

RoleFinder::Documents RoleFinder::named_at_its_place(const Claimed& claimed, const std::string& key) const {
    const Habit& habit = *claimed.claim.habit;
    const SeenFile& copy = claimed.file;
    Documents documents;
    const auto named = by_key_.find(key);
    if (named == by_key_.end()) return documents;
    const std::string told = told_path(habit, claimed.claim.captured, copy), extension = extension_of(copy.name);
    for (const SeenFile* document : named->second) {
        bool fits = document->id != copy.id && can_be_of(habit, extension_of(document->name), extension);
        if (habit.where == Where::beside)
            fits = fits && document->volume == copy.volume && document->folder == copy.folder;
        else if (habit.where == Where::above)
            fits = fits && document->volume == copy.volume && document->folder == split_path(copy.folder).folder;
        else if (habit.where == Where::at_path)
            fits = fits && (told.empty() || is_end_of(told, path_of(*document)) || is_end_of(path_of(*document), told));
        if (fits) documents.push_back(document);
    }
    return documents;
}

// Of several with other paths the one on the same volume, in the nearest folder, with the most of its content.
RoleFinder::Found RoleFinder::nearest(const Claimed& claimed, Documents documents) {
    const auto keep_best = [&](const auto& worth) {
        const auto best = worth(**std::max_element(documents.begin(), documents.end(),
                                                   [&](auto* a, auto* b) { return worth(*a) < worth(*b); }));
        std::erase_if(documents, [&](const SeenFile* document) { return worth(*document) < best; });
    };
    const SeenFile& copy = claimed.file;
    const std::size_t tail = claimed.claim.captured.tail.size();
    // An owner note lacks two characters where the name has so many.
    if (tail > 0) keep_best([](const SeenFile& document) { return document.name.size(); });
    keep_best([&](const SeenFile& document) { return document.volume == copy.volume; });
    keep_best([&](const SeenFile& document) { return common_folders(document.folder, copy.folder); });
    keep_best([&](const SeenFile& document) { return extension_of(document.name) == extension_of(copy.name); });
    const auto is_same_path = [&](const SeenFile* document) {
        return path_of(*document) == path_of(*documents.front());
    };
    if (!std::all_of(documents.begin(), documents.end(), is_same_path)) {
        const auto shares = shares_of(claimed, documents);
        if (!shares.empty()) {
            const auto best = std::max_element(shares.begin(), shares.end());
            return {
                path_of(*documents[static_cast<std::size_t>(best - shares.begin())]),
                fmt::format("of several documents of that name it shares most with this one ({:.0f} %)", *best * 100)};
        }
        return {path_of(*documents.front()), "one of several documents of that name"};
    }
    return {path_of(*documents.front()), {}};
}

std::optional<RoleFinder::Found> RoleFinder::kin_of(const Claimed& claimed) {
    const Habit& habit = *claimed.claim.habit;
    const SeenFile& copy = claimed.file;
    Documents documents;
    if (habit.where == Where::beside) {
        if (const auto here = by_folder_.find(key_of_folder(copy)); here != by_folder_.end()) documents = here->second;
    } else {
        documents = anywhere_;
    }
    std::erase_if(documents, [&](const SeenFile* document) {
        return document->size / 4 > copy.size || copy.size / 4 > document->size ||
               !can_be_of(habit, extension_of(document->name), extension_of(copy.name));
    });
    const auto distance = [&](const SeenFile* document) {
        return document->size > copy.size ? document->size - copy.size : copy.size - document->size;
    };
    std::stable_sort(documents.begin(), documents.end(),
                     [&](const SeenFile* a, const SeenFile* b) { return distance(a) < distance(b); });
    if (documents.size() > kMostAlike) documents.resize(kMostAlike);
    const auto shares = shares_of(claimed, documents);
    if (shares.empty()) return std::nullopt;
    const double best = *std::max_element(shares.begin(), shares.end());
    if (best < kKin) return std::nullopt;
    // Documents that were made from one another are alike: then the one on which work had begun last before it.
    const SeenFile* chosen = nullptr;
    double share = 0;
    for (std::size_t n = 0; n < documents.size(); ++n) {
        if (shares[n] < best - kAsGood) continue;
        const SeenFile* document = documents[n];
        const auto began = [&](const SeenFile* one) {
            return one->created && copy.created && *one->created <= *copy.created ? *one->created : INT64_MIN;
        };
        const bool is_nearer =
            chosen == nullptr || std::pair(began(document), document->id) > std::pair(began(chosen), chosen->id);
        if (!is_nearer || (document->id > copy.id && chosen != nullptr && chosen->id < copy.id)) continue;
        chosen = document;
        share = shares[n];
    }
    return Found{path_of(*chosen), fmt::format("{:.0f} % of what is its own stands in this document", share * 100)};
}

std::vector<double> RoleFinder::shares_of(const Claimed& claimed, const Documents& documents) {
    if (!claimed.file.has_content || documents.empty()) return {};
    const Sketch own = sketch_of_file(claimed.file.id);
    if (own.empty()) return {};
    std::vector<Sketch> others;
    for (const SeenFile* document : documents)
        others.push_back(document->has_content && document->size <= kMostCompared ? sketch_of_file(document->id)
                                                                                  : Sketch());
    return kinship(own, others);
}

const Sketch& RoleFinder::sketch_of_file(std::int64_t id) {
    if (const auto known = sketches_.find(id); known != sketches_.end()) return known->second;
    if (sketches_.size() >= kMostSketches) sketches_.clear();
    const auto content = contents_(id);
    return sketches_[id] = content != nullptr && content->size() <= kMostCompared ? sketch_of(*content) : Sketch();
}

void RoleFinder::look_for_hidden(const SeenFile& file) {
    constexpr std::string_view kShortcut = ".lnk";
    const bool has_attribute = file.attributes.find("\"hidden\"") != file.attributes.npos;
    if (!has_attribute && extension_of(file.name) == "lnk")
        shortcuts_.insert(as_key(joined(file.folder, file.name.substr(0, file.name.size() - kShortcut.size()))));
    const bool has_point = file.name.starts_with('.') && !file.name.starts_with("._");
    if ((has_attribute || has_point) && hidden_.size() < kMostHidden) hidden_.push_back(file);
}

// Hidden by an attribute or a leading point, and either a shortcut of its name lies in its place, or it is of a kind
// that programs do not hide for themselves.
void RoleFinder::find_hidden(std::map<std::int64_t, SafetyCopy>& roles) const {
    for (const SeenFile& file : hidden_) {
        if (roles.contains(file.id) || is_of_system(file.folder)) continue;
        const std::string path = path_of(file);
        const bool has_attribute = file.attributes.find("\"hidden\"") != file.attributes.npos;
        const bool has_shortcut =
            shortcuts_.contains(as_key(path)) || shortcuts_.contains(as_key(joined(file.folder, stem_of(file.name))));
        if (has_attribute && has_shortcut)
            roles[file.id] = {Role::hidden, {}, "it is hidden, and a shortcut of its name lies in its place", {}};
        else if (has_attribute && file.is_folder && is_blank(file.name))
            roles[file.id] = {Role::hidden, {}, "it is hidden, and its name can't be seen", {}};
        else if (!file.is_folder && is_somebodys(file.name) && !is_cover(file.name) &&
                 ("/" + file.folder).find("/.") == std::string::npos)
            roles[file.id] = {
                Role::hidden,
                {},
                has_attribute ? "it is hidden by its attribute" : "it is hidden by the point in front of its name",
                {}};
    }
}

}  // namespace dredger::lives
