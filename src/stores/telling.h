// What a scan is told of a message: a record of it, and one of each attachment.
#pragma once

#include <functional>

#include "filesystems/filesystem.h"
#include "stores/message.h"

namespace dredger::stores {

// Where a message was found, and how.
struct Found {
    std::string folder;  // the path of the folder that it lies in
    State state = State::live;
    Origin origin = Origin::record;
    FileIdentity identity;
    std::vector<std::string> notes;  // what the technician should know of it, a sentence each
};

// Composed contents are numbered: the message itself is part 0, its attachments follow.
inline constexpr unsigned kPartBits = 12;
inline std::uint64_t number_of(std::uint64_t message, std::size_t part) { return message << kPartBits | part; }
inline std::uint64_t message_of_number(std::uint64_t number) { return number >> kPartBits; }
inline std::size_t part_of_number(std::uint64_t number) { return number & ((std::uint64_t{1} << kPartBits) - 1); }

// The content of one part of a message; null where there is none.
MediumPtr part_of(const Message& message, std::size_t part);

// "2026-03-02 Ring order.eml"
std::string file_name_of(const Message& message);

// Tells of the message, then of its attachments, in a folder of its name. Where the message itself stands in the store
// as it is, `as_it_is` tells where. False: nobody wants more.
bool tell(const Message& message, const Found& found, std::uint64_t number, const std::optional<VolumeLayout>& as_it_is,
          const std::function<bool(Record&&)>& emit);

// A live folder.
Record folder_record(const std::string& path, std::uint64_t number);

}  // namespace dredger::stores
