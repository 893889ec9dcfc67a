// What small copies say of their document in their own content.
#pragma once

#include "lives/habit.h"

namespace dredger::lives {

// An owner note of office programs on Windows: a byte with the length of the owner's name, the name in the system's
// code page; from byte 54 on the same as 16-bit characters behind their count. 162 or 165 bytes in all. (As the
// programs were seen to write it.)
ToldByContent owner_of_office_note(Reader& content);

// LibreOffice's lock file: ",MACHINE/USER,HOST,TIME,PROFILE;" (its source, svl/source/misc/documentlockfile.cxx).
ToldByContent owner_of_lock_file(Reader& content);

// A thumbnail of a desktop: a PNG whose text chunk Thumb::URI names the picture (freedesktop.org Thumbnail Managing
// Standard 0.9).
ToldByContent told_by_thumbnail(Reader& content);

// A copy of unsaved changes whose first line is the document's URI, and what follows it in braces.
ToldByContent told_by_first_line(Reader& content);

// "file:///home/jana/a%20b.txt" to "home/jana/a b.txt"; empty where it is no path of this machine.
std::string path_of_uri(std::string_view uri);

}  // namespace dredger::lives
