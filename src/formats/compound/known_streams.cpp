#include "formats/compound/known_streams.h"

#include <optional>

#include "formats/compound/drawing_records.h"

namespace dredger::formats {

void look_into(const BlockStreams& streams, const Witnesses& witnesses) {
    for (const auto& [path, stream] : streams) {
        if (!stream.ok()) return;
        if (stream.size() == 0) continue;
        const Look look(stream, witnesses);
        const std::size_t slash = path.find_last_of('/');
        const std::string folder = slash == path.npos ? "" : path.substr(0, slash + 1);
        const std::string name = path.substr(folder.size());
        const auto beside = [&](const char* other) {
            const auto found = streams.find(folder + other);
            return found == streams.end() ? nullptr : &found->second;
        };
        if (name.starts_with('\x05') && name.ends_with("SummaryInformation")) look_at_summary(look);
        if (name == "__properties_version1.0") look_at_properties(look, folder.empty());
        if (name.starts_with("__substg1.0_") && folder.find("__nameid") == folder.npos)
            look_at_message_part(look, name);
        if (name == "Workbook" || name == "Book" || name == "WORKBOOK" || name == "BOOK") look_at_sheets(look);
        if (name == "PowerPoint Document") look_at_slides(look, beside("Current User"));
        if (name == "Pictures") look_at_pictures_of_slides(look, beside("Current User"));
        if (name == "EscherDelayStm") DrawingRecords(look).walk(0, stream.size());
        if (name == "Data" && beside("WordDocument") != nullptr) look_at_word_pictures(look);
        if (name == "WordDocument") {
            const BlockStream* table = beside(uses_second_table(stream) ? "1Table" : "0Table");
            std::optional<Look> beside_it;
            if (table != nullptr) beside_it.emplace(*table, witnesses);
            look_at_word_text(look, beside_it ? &*beside_it : nullptr);
        }
    }
}

}  // namespace dredger::formats
