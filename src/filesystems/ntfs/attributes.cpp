#include "filesystems/ntfs/attributes.h"

namespace dredger::ntfs {

std::optional<Attribute> AttributeReader::next() {
    const auto type = record_.u32le(at_);
    if (type && *type == END) ended_ = true;
    const auto header = record_.as<AttributeRecordHeader>(at_);
    if (!type || *type == END || !header || *type % 0x10 != 0 || *type == 0) return std::nullopt;
    const std::uint32_t length = header->RecordLength;
    const auto whole = record_.slice(at_, length);
    if (!whole || length < sizeof(AttributeRecordHeader) || length % 8 != 0) return std::nullopt;

    Attribute attribute;
    attribute.type = *type;
    attribute.flags = header->Flags;
    attribute.resident = header->FormCode == 0;
    if (header->NameLength > 0) {
        const auto name = whole->slice(header->NameOffset, std::size_t{header->NameLength} * 2);
        if (!name) return std::nullopt;
        attribute.name = *name;
    }
    if (attribute.resident) {
        const auto form = whole->as<ResidentForm>(sizeof(AttributeRecordHeader));
        const auto value = form ? whole->slice(form->ValueOffset, form->ValueLength) : tl::unexpected(form.error());
        if (!value) return std::nullopt;
        attribute.value = *value;
        attribute.value_offset = at_ + form->ValueOffset;
    } else {
        const auto form = whole->as<NonresidentForm>(sizeof(AttributeRecordHeader));
        const auto pairs = form && form->MappingPairsOffset <= length
                               ? whole->slice(form->MappingPairsOffset, length - form->MappingPairsOffset)
                               : Result<ByteView>(fail(ErrorKind::not_understood, "no mapping pairs"));
        if (!pairs) return std::nullopt;
        attribute.nonresident = *form;
        attribute.mapping_pairs = *pairs;
    }
    at_ += length;
    return attribute;
}

}  // namespace dredger::ntfs
