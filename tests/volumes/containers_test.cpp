// Volumes within LVM2, software RAID and LUKS.
#include "volumes/containers.h"

#include <cstring>
#include <gmock/gmock.h>

#include "filesystems/filesystem.h"
#include "support/support.h"
#include "volumes/mapping.h"

namespace dredger {
namespace {

using test::MemoryMedium;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;

PartitionMap map_of(const MediumPtr& medium) {
    PartitionMap map = read_partition_map(*medium).value();
    add_contained_volumes(medium, map);
    return map;
}

TEST(Containers, ALogicalVolumeInTwoPlacesIsOneVolume) {
    const auto medium = std::make_shared<MemoryMedium>(test::unpacked("lvm-station"));
    const PartitionMap map = map_of(medium);
    ASSERT_EQ(map.volumes.size(), 3U);
    EXPECT_EQ(map.volumes[0].holds, "LVM2 physical volume of group station");
    EXPECT_TRUE(map.volumes[0].is_container());
    const Volume& home = map.volumes[1];
    EXPECT_EQ(home.name, "station/home");
    EXPECT_EQ(home.table, TableKind::container);
    EXPECT_EQ(home.length, 11U << 20);
    ASSERT_EQ(home.pieces.size(), 2U);
    EXPECT_EQ(map.volumes[2].name, "station/calls");
    EXPECT_EQ(map.volumes[2].offset, home.pieces[0].end()) << "it lies between the two pieces";
    const auto opened = open_filesystem(open_volume(medium, home));
    ASSERT_TRUE(opened && *opened);
    EXPECT_EQ((*opened)->facts().label, "HOME");
    // Across the place where the pieces meet.
    const std::uint64_t first = home.pieces[0].length;
    EXPECT_THAT(on_medium(home, {{first - 512, 1024}, Extent::zeros(5), {home.length - 1, 10}}),
                ElementsAre(Extent{home.pieces[0].end() - 512, 512}, Extent{home.pieces[1].offset, 512},
                            Extent::zeros(5), Extent{home.pieces[1].end() - 1, 1}, Extent::unknown(9)));
}

TEST(Containers, DamagedMetadataMakesNoVolumes) {
    const auto image = test::unpacked("lvm-station");
    const std::string text(reinterpret_cast<const char*>(image.data()), image.size());
    // Every copy of the text, at any place.
    for (const auto& [from, to] :
         {std::pair("segment_count", "segment_cOunt"), std::pair("start_extent", "start\0extent"),
          std::pair("pe_start", "{{{{{{{{"), std::pair("stripes", "\"\"\"\"\"\"\"")}) {
        MemoryMedium medium(image);
        for (std::size_t at = text.find(from); at != std::string::npos; at = text.find(from, at + 1))
            for (std::size_t i = 0; i < std::strlen(from); ++i) medium.patch(at + i, static_cast<std::uint8_t>(to[i]));
        const PartitionMap map = map_of(std::make_shared<MemoryMedium>(medium));
        for (const Volume& volume : map.volumes) EXPECT_LE(volume.offset + volume.length, image.size());
    }
}

// mdp_superblock_1, by hand: version 1.2, as `level` over `disks`.
std::vector<std::byte> raid_member(std::uint32_t level, std::uint32_t disks) {
    std::vector<std::byte> bytes(16 << 20);
    const auto put = [&](std::size_t at, std::uint64_t value, std::size_t size) {
        std::memcpy(bytes.data() + 4096 + at, &value, size);
    };
    put(0, 0xA92B4EFC, 4);
    put(4, 1, 4);
    std::memcpy(bytes.data() + 4096 + 32, "hut:0", 5);
    put(72, level, 4);
    put(92, disks, 4);
    put(128, 2048, 8);
    put(136, 20'000, 8);
    put(144, 8, 8);
    return bytes;
}

TEST(Containers, AMirrorIsReadThroughOneMember) {
    const PartitionMap map = map_of(std::make_shared<MemoryMedium>(raid_member(1, 2)));
    ASSERT_EQ(map.volumes.size(), 2U);
    EXPECT_THAT(map.volumes[0].holds, HasSubstr("RAID1, 2 disks, hut:0"));
    EXPECT_EQ(map.volumes[1].offset, 1U << 20);
    EXPECT_EQ(map.volumes[1].length, 20'000U * 512);
    EXPECT_THAT(map.warnings, IsEmpty());
}

TEST(Containers, StripesAreNamedWithWhatToDoFirst) {
    for (const std::uint32_t level : {0U, 5U, 0xFFFFFFFFU}) {
        const PartitionMap map = map_of(std::make_shared<MemoryMedium>(raid_member(level, 3)));
        EXPECT_EQ(map.volumes.size(), 1U) << level;
        EXPECT_FALSE(map.volumes[0].is_container());
        EXPECT_THAT(map.warnings, Contains(HasSubstr("mdadm --assemble --readonly"))) << level;
    }
}

TEST(Containers, EncryptedOnesAreNamed) {
    std::vector<std::byte> bytes(1 << 20);
    std::memcpy(bytes.data(), "LUKS\xBA\xBE\0\2", 8);
    const PartitionMap map = map_of(std::make_shared<MemoryMedium>(bytes));
    EXPECT_EQ(map.volumes[0].holds, "LUKS2 encryption");
    EXPECT_THAT(map.warnings, Contains(HasSubstr("cryptsetup open --readonly")));
    bytes[7] = std::byte{9};
    EXPECT_THAT(map_of(std::make_shared<MemoryMedium>(bytes)).volumes[0].holds, IsEmpty());
}

}  // namespace
}  // namespace dredger
