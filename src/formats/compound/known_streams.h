// What must stand in streams of compound files that are known: records of sheets ([MS-XLS]) and slides ([MS-PPT]),
// text, tables and pages of Word ([MS-DOC]), drawings ([MS-ODRAW]), summaries ([MS-OLEPS]), properties of messages
// ([MS-OXMSG]). Compound files have no checksums, so this shows where another file's sectors stand in one.
#pragma once

#include <map>
#include <string_view>

#include "formats/compound/look.h"

namespace dredger::formats {

// By path: "ObjectPool/_1/WordDocument". Small ones among them.
using BlockStreams = std::map<std::string, BlockStream>;

void look_into(const BlockStreams& streams, const Witnesses& witnesses);

// One kind of stream each, in the file of its name.
void look_at_summary(const Look& look);
void look_at_properties(const Look& look, bool is_message);
void look_at_message_part(const Look& look, std::string_view name);
void look_at_sheets(const Look& look);
// `user`: the stream that tells who changed them last; null: there is none.
void look_at_slides(const Look& look, const BlockStream* user);
void look_at_pictures_of_slides(const Look& look, const BlockStream* user);
// `table`: the stream that tells of its parts; null: there is none.
void look_at_word_text(const Look& document, const Look* table);
bool uses_second_table(const BlockStream& word_document);
void look_at_word_pictures(const Look& look);

}  // namespace dredger::formats
