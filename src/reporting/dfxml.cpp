#include "reporting/dfxml.h"

#include <fmt/format.h>
#include <fstream>
#include <map>

#include "base/beneath.h"
#include "base/markup.h"
#include "base/text.h"

namespace dredger::reporting {
namespace {

void time_element(std::ofstream& out, const char* name, const std::optional<FileTime>& time) {
    if (time) out << fmt::format("      <{0}>{1}</{0}>\n", name, iso8601(*time));
}

void file_object(std::ofstream& out, const Candidate& c, std::uint64_t volume_offset) {
    const FileEntry& r = c.record;
    out << "    <fileobject>\n";
    out << fmt::format("      <filename>{}</filename>\n", escaped(printable(r.path())));
    out << fmt::format("      <id>{}</id>\n", c.id);
    out << fmt::format("      <name_type>{}</name_type>\n", r.is_folder ? "d" : "r");
    out << fmt::format("      <filesize>{}</filesize>\n", r.size);
    out << fmt::format("      <alloc>{}</alloc>\n", r.state == State::live || r.state == State::trashed ? 1 : 0);
    if (r.origin != Origin::signature) out << fmt::format("      <inode>{}</inode>\n", r.identity.number);
    time_element(out, "mtime", r.modified);
    time_element(out, "ctime", r.changed);
    time_element(out, "atime", r.accessed);
    time_element(out, "crtime", r.created);
    if (!c.layout.empty()) {
        out << "      <byte_runs>\n";
        std::uint64_t at = 0;
        for (const Extent& extent : c.layout.extents) {
            if (extent.is_stored())
                out << fmt::format(
                    "        <byte_run file_offset=\"{}\" img_offset=\"{}\" fs_offset=\"{}\" len=\"{}\"/>\n", at,
                    extent.offset, extent.offset - std::min(extent.offset, volume_offset), extent.length);
            else if (extent.is_zeros())
                out << fmt::format("        <byte_run file_offset=\"{}\" fill=\"0\" len=\"{}\"/>\n", at, extent.length);
            at += extent.length;
        }
        out << "      </byte_runs>\n";
    }
    out << "    </fileobject>\n";
}

}  // namespace

Result<void> write_dfxml(const Catalog& catalog, const Selection& selection, const std::string& version,
                         const std::filesystem::path& file) {
    DREDGER_TRY(const auto sources, catalog.sources());
    DREDGER_TRY(const auto volumes, catalog.volumes());
    DREDGER_CHECK(refuse_link(file));
    std::ofstream out(file, std::ios::binary | std::ios::trunc);
    out << "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
           "<dfxml version=\"1.1.1\" xmlns=\"http://www.forensicswiki.org/wiki/Category:Digital_Forensics_XML\" "
           "xmlns:dc=\"http://purl.org/dc/elements/1.1/\">\n"
           "  <metadata>\n    <dc:type>Disk Image</dc:type>\n  </metadata>\n";
    out << fmt::format("  <creator>\n    <program>Dredger</program>\n    <version>{}</version>\n  </creator>\n",
                       escaped(version));
    for (const ScannedSource& source : sources)
        out << fmt::format(
            "  <source>\n    <image_filename>{}</image_filename>\n    <image_size>{}</image_size>\n  </source>\n",
            escaped(printable(source.path)), source.identity.size);
    for (const ScannedVolume& volume : volumes) {
        out << fmt::format("  <volume offset=\"{}\">\n", volume.place.offset);
        if (!volume.facts.filesystem.empty())
            out << fmt::format("    <ftype_str>{}</ftype_str>\n", escaped(volume.facts.filesystem));
        if (volume.facts.cluster_size > 0)
            out << fmt::format("    <block_size>{}</block_size>\n", volume.facts.cluster_size);
        Selection here = selection;
        here.volumes = {volume.id};
        DREDGER_CHECK(catalog.each(here, Order{Order::By::path}, true, [&](const Candidate& c) {
            file_object(out, c, volume.place.offset);
            return true;
        }));
        out << "  </volume>\n";
    }
    out << "</dfxml>\n";
    out.flush();
    if (!out) return not_written("this can't be written", file.string(), "check for room on the drive");
    return {};
}

}  // namespace dredger::reporting
