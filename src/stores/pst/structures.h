// On-disk structures of personal and offline stores (PST, OST). Names, order and meaning follow [MS-PST]; what it
// leaves out of the later offline stores with pages of 4 KiB was read off such stores.
#pragma once

#include <boost/endian/arithmetic.hpp>
#include <cstdint>

namespace dredger::stores::pst {

using boost::endian::little_uint16_t;
using boost::endian::little_uint32_t;
using boost::endian::little_uint64_t;

// What a store is built of. ANSI ones have ids and places of 32 bits; the newest pages of 4 KiB.
enum class Form { ansi, unicode, unicode_4k };

enum wVer : std::uint16_t { kFirstUnicode = 23, kUnicode4K = 36 };  // HEADER, 2.2.2.6; 14 and 15: ANSI

enum bCryptMethod : std::uint8_t { NDB_CRYPT_NONE = 0, NDB_CRYPT_PERMUTE = 1, NDB_CRYPT_CYCLIC = 2 };

struct HeaderStart {
    char dwMagic[4];  // "!BDN"
    little_uint32_t dwCRCPartial;
    char wMagicClient[2];  // "SM"; "SO" of an offline store
    little_uint16_t wVer;
};
static_assert(sizeof(HeaderStart) == 12);

enum ptype : std::uint8_t { ptypeBBT = 0x80, ptypeNBT = 0x81 };  // of a page, 2.2.2.7.1

// Kinds of nodes, the lowest five bits of a node's id (2.2.2.1).
enum nidType : std::uint8_t {
    NID_TYPE_HID = 0x00,
    NID_TYPE_NORMAL_FOLDER = 0x02,
    NID_TYPE_SEARCH_FOLDER = 0x03,
    NID_TYPE_NORMAL_MESSAGE = 0x04,
    NID_TYPE_ATTACHMENT = 0x05,
    NID_TYPE_CONTENTS_TABLE = 0x0E,
};
inline std::uint8_t type_of(std::uint32_t nid) { return nid & 0x1FU; }

// Nodes that every store has (2.4.1), and those within each message (2.4.5).
enum SpecialNid : std::uint32_t {
    NID_MESSAGE_STORE = 0x21,
    NID_NAME_TO_ID_MAP = 0x61,
    NID_ROOT_FOLDER = 0x122,
    NID_ATTACHMENT_TABLE = 0x671,
    NID_RECIPIENT_TABLE = 0x692,
};

enum btype : std::uint8_t { kDataTree = 0x01, kSubnodes = 0x02 };  // XBLOCK, XXBLOCK; SLBLOCK, SIBLOCK

// Heap-on-Node and what lies in it (2.3).
enum : std::uint8_t { kHeapSignature = 0xEC };
enum bClientSig : std::uint8_t { bTypeTC = 0x7C, bTypePC = 0xBC, bTypeBTH = 0xB5 };

struct HNHDR {
    little_uint16_t ibHnpm;
    std::uint8_t bSig;
    std::uint8_t bClientSig;
    little_uint32_t hidUserRoot;
    std::uint8_t rgbFillLevel[4];
};
static_assert(sizeof(HNHDR) == 12);

struct BTHHEADER {
    std::uint8_t bType;
    std::uint8_t cbKey;
    std::uint8_t cbEnt;
    std::uint8_t bIdxLevels;
    little_uint32_t hidRoot;
};
static_assert(sizeof(BTHHEADER) == 8);

struct TCINFO {
    std::uint8_t bType;
    std::uint8_t cCols;
    little_uint16_t TCI_4b;
    little_uint16_t TCI_2b;
    little_uint16_t TCI_1b;
    little_uint16_t TCI_bm;  // bytes of a row
    little_uint32_t hidRowIndex;
    little_uint32_t hnidRows;
    little_uint32_t hidIndex;
};
static_assert(sizeof(TCINFO) == 22);

struct TCOLDESC {
    little_uint32_t tag;  // type below, id above
    little_uint16_t ibData;
    std::uint8_t cbData;
    std::uint8_t iBit;
};
static_assert(sizeof(TCOLDESC) == 8);

}  // namespace dredger::stores::pst
