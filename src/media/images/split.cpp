// An image cut into numbered parts: NAME.001 NAME.002 ..., NAME.aa NAME.ab ..., NAME.part1 ...: whatever counts up at
// the end of the name, from the first part on.
#include <algorithm>
#include <fmt/format.h>

#include "base/bytes.h"
#include "base/text.h"
#include "media/images/image.h"
#include "media/images/runs.h"

namespace dredger::images {
namespace {

namespace fs = std::filesystem;

// The counter at the end of a name: digits or letters behind a point; digits anywhere.
std::string counter_of(const std::string& name) {
    std::size_t from = name.size();
    while (from > 0 && name[from - 1] >= '0' && name[from - 1] <= '9') --from;
    if (from < name.size()) return name.substr(from);
    while (from > 0 &&
           ((name[from - 1] >= 'a' && name[from - 1] <= 'z') || (name[from - 1] >= 'A' && name[from - 1] <= 'Z')))
        --from;
    const bool behind_point = from > 0 && name[from - 1] == '.';
    return behind_point && name.size() - from >= 2 ? name.substr(from) : "";
}

// Where counting begins: 0, 1, 00, 001, aa, AAA ...
bool is_first(const std::string& counter) {
    const std::string zeros(counter.size(), '0');
    std::string one = zeros;
    one.back() = '1';
    return counter == zeros || counter == one || counter == std::string(counter.size(), 'a') ||
           counter == std::string(counter.size(), 'A');
}

// The next in counting: as wide while it fits, then one digit wider; letters end with "zz".
std::string following(std::string counter) {
    for (std::size_t i = counter.size(); i-- > 0;) {
        char& c = counter[i];
        if (c != '9' && c != 'z' && c != 'Z') {
            ++c;
            return counter;
        }
        c = c == '9' ? '0' : c == 'z' ? 'a' : 'A';
    }
    if (counter.front() != '0') return {};
    counter.insert(counter.begin(), '1');
    return counter;
}

constexpr std::uint64_t kLook = 2048;  // bytes of a beginning
constexpr std::uint64_t kSector = 512;

bool has_mark(ByteView head) { return head.u16le(510).value_or(0) == 0xAA55; }

// A disk or a volume of its own begins here: a jump and a boot mark, a table, or a superblock.
bool begins_anew(ByteView head) {
    if (head.has(512, "EFI PART")) return true;
    if (head.u16le(1080).value_or(0) == 0xEF53 && head.u32le(1024).value_or(0) != 0) return true;  // ext
    if (!has_mark(head)) return false;
    const unsigned first = head.u8(0).value_or(0);
    if (first == 0xEB || first == 0xE9) return true;
    bool any = false;
    for (std::size_t entry = 446; entry < 510; entry += 16) {
        const unsigned status = head.u8(entry).value_or(1), type = head.u8(entry + 4).value_or(0);
        if (status != 0 && status != 0x80) return false;
        any = any || type != 0;
    }
    return any;
}

// Bytes that the table or boot sector at the beginning tells of; 0 where there is none.
std::uint64_t told_size(ByteView head) {
    if (head.has(512, "EFI PART")) return (head.u64le(512 + 32).value_or(0) + 1) * kSector;  // where its copy lies
    if (!has_mark(head)) return 0;
    const unsigned first = head.u8(0).value_or(0);
    if (first == 0xEB || first == 0xE9) {
        const std::uint64_t unit = head.u16le(11).value_or(0);
        const std::uint64_t small = head.u16le(19).value_or(0), large = head.u32le(32).value_or(0);
        const std::uint64_t count = head.has(3, "NTFS") ? head.u64le(40).value_or(0) : small != 0 ? small : large;
        return count < (std::uint64_t{1} << 48) ? count * unit : 0;
    }
    std::uint64_t end = 0;
    for (std::size_t entry = 446; entry < 510; entry += 16)
        if (head.u8(entry + 4).value_or(0) != 0)
            end = std::max(end, std::uint64_t{head.u32le(entry + 8).value_or(0)} + head.u32le(entry + 12).value_or(0));
    return end * kSector;
}

// The first bytes; none where they can't be read.
std::vector<std::byte> beginning_of(const Medium& file) {
    return file.bytes(0, static_cast<std::size_t>(std::min(kLook, file.size()))).value_or(std::vector<std::byte>());
}

// card1 and card2 are two cards, as long as the first is not shorter than what it says itself; x.part1 and x.part2 are
// parts.
bool can_go_on(const FileMedium& first, const fs::path& second, const std::string& stem, const std::string& counter) {
    const auto after = FileMedium::open(second);
    if (after && begins_anew(ByteView(beginning_of(**after)))) return false;
    return counter.size() >= 2 || folded(stem).ends_with("part") ||
           told_size(ByteView(beginning_of(first))) > first.size();
}

}  // namespace

Result<MediumPtr> open_split(const FilePtr& file, Opening& opening) {
    const std::string name = file->path().filename().string();
    std::string counter = counter_of(name);
    if (counter.empty() || !is_first(counter)) return nullptr;
    const std::string stem = name.substr(0, name.size() - counter.size());
    const fs::path folder = file->path().parent_path();
    std::error_code failed;
    const fs::path second = folder / (stem + following(counter));
    if (!fs::is_regular_file(second, failed) || !can_go_on(*file, second, stem, counter)) return nullptr;

    std::vector<Run> runs = {{0, file->size(), file, 0}};
    std::vector<std::string> shorter;
    while (true) {
        counter = following(counter);
        if (counter.empty() || !fs::is_regular_file(folder / (stem + counter), failed)) break;
        DREDGER_TRY(const FilePtr part, opening.open_part(*file, stem + counter, "a part of the image"));
        const std::uint64_t start = runs.back().start + runs.back().length;
        if (runs.back().length != file->size()) shorter.push_back(runs.back().on->name());
        runs.push_back({start, part->size(), part, 0});
    }
    if (!shorter.empty())
        opening.note(fmt::format(
            "the parts are not all of one size ({} differs): is one cut short or of another image?", shorter.front()));
    opening.set_form(fmt::format("split image in {} parts", runs.size()));
    return std::make_shared<Runs>(file->name(), std::move(runs));
}

}  // namespace dredger::images
