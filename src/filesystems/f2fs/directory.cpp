#include "filesystems/f2fs/directory.h"

namespace dredger::f2fs {

std::vector<DirectoryEntry> read_entries(ByteView area) {
    // As many as there is room for, each with a bit, a head and a slot of its name.
    const std::size_t count = area.size() * 8 / ((sizeof(DirectoryEntryHead) + kSlot) * 8 + 1);
    const std::size_t bits = (count + 7) / 8;
    const std::size_t heads = area.size() - count * (sizeof(DirectoryEntryHead) + kSlot);
    const std::size_t names = heads + count * sizeof(DirectoryEntryHead);
    std::vector<DirectoryEntry> entries;
    for (std::size_t i = 0; i < count && bits <= heads;) {
        const bool is_live = (area.u8(i / 8).value_or(0) >> (i % 8) & 1U) != 0;
        const auto head = area.as<DirectoryEntryHead>(heads + i * sizeof(DirectoryEntryHead));
        const std::size_t length = head ? head->name_len.value() : 0;
        const std::size_t slots = (length + kSlot - 1) / kSlot;
        const bool is_entry = head && length > 0 && length <= 255 && slots <= count - i && head->ino != 0 &&
                              head->file_type <= static_cast<std::uint8_t>(FileType::symlink);
        if (!is_entry) {
            ++i;
            continue;
        }
        const auto text = area.bytes().subspan(names + i * kSlot, length);
        std::string name(reinterpret_cast<const char*>(text.data()), text.size());
        const bool is_name = name != "." && name != ".." && name.find('\0') == name.npos && name.find('/') == name.npos;
        if (is_name) entries.push_back({std::move(name), head->ino, static_cast<FileType>(head->file_type), is_live});
        // The further slots of what is gone may be another one's by now.
        i += is_live ? slots : 1;
    }
    return entries;
}

}  // namespace dredger::f2fs
