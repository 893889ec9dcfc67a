#include "formats/exif.h"

#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "base/text.h"
#include "formats/dates.h"

namespace dredger::formats {
namespace {

constexpr unsigned kMaxEntries = 512;
constexpr unsigned kMaxDirectories = 8;

enum Tag : std::uint16_t { kMake = 0x010F, kModel = 0x0110, kDateTime = 0x0132, kExifIfd = 0x8769, kOriginal = 0x9003 };

std::string trimmed(std::string text) {
    if (const auto end = text.find('\0'); end != std::string::npos) text.resize(end);
    while (!text.empty() && text.back() == ' ') text.pop_back();
    return printable(text);
}

}  // namespace

void describe_exif(Reader& content, std::uint64_t header, Description& said) {
    const bool big = content.has(header, "MM");
    const auto u16 = [&](std::uint64_t at) { return big ? content.u16be(at) : content.u16le(at); };
    const auto u32 = [&](std::uint64_t at) { return big ? content.u32be(at) : content.u32le(at); };
    std::string make, model;
    std::optional<FileTime> written;
    std::vector<std::uint64_t> directories = {header + u32(header + 4)};
    for (std::size_t d = 0; d < directories.size() && d < kMaxDirectories; ++d) {
        const std::uint64_t directory = directories[d];
        for (unsigned i = 0, n = std::min<unsigned>(u16(directory), kMaxEntries); i < n; ++i) {
            const std::uint64_t entry = directory + 2 + 12 * std::uint64_t{i};
            const std::uint32_t count = u32(entry + 4);
            const std::uint64_t value = count > 4 ? header + u32(entry + 8) : entry + 8;
            const auto words = [&] { return trimmed(content.text(value, std::min<std::size_t>(count, 64))); };
            switch (u16(entry)) {
                case kMake: make = words(); break;
                case kModel: model = words(); break;
                case kDateTime: written = exif_time(words()); break;
                case kOriginal: said.date = exif_time(words()); break;
                case kExifIfd: directories.push_back(header + u32(entry + 8)); break;
                default: break;
            }
        }
    }
    if (!said.date) said.date = written;
    if (!make.empty() && !model.starts_with(make)) model = model.empty() ? make : fmt::format("{} {}", make, model);
    if (!model.empty()) said.facts.push_back({"camera", model});
}

void title_from_camera(Description& said) {
    if (!said.title.empty()) return;
    const auto camera =
        std::find_if(said.facts.begin(), said.facts.end(), [](const Fact& f) { return f.name == "camera"; });
    if (said.date) {
        said.title = iso8601(*said.date).substr(0, 19);
        std::replace(said.title.begin(), said.title.end(), 'T', ' ');
        std::replace(said.title.begin(), said.title.end(), ':', '.');
    }
    if (camera == said.facts.end()) return;
    if (!said.title.empty()) said.title += ' ';
    said.title += camera->value;
}

}  // namespace dredger::formats
