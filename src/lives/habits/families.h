// The families of habits; a new one is a file here and a line of habits.cpp. Sources: what the programs' makers say in
// their own help of where copies are kept, and what the programs were seen to write.
#pragma once

#include <span>

#include "lives/habit.h"

namespace dredger::lives::habits {

inline constexpr std::string_view kTexts = "doc,docx,docm,dot,dotx,dotm,rtf,odt,ott,fodt,asd,wbk";
inline constexpr std::string_view kSheets = "xls,xlsx,xlsm,xlsb,xlt,xltx,ods,ots,fods,csv,xlk,xar";
inline constexpr std::string_view kSlides = "ppt,pptx,pptm,pps,ppsx,pot,potx,odp,otp,fodp";
inline constexpr std::string_view kOfficeFiles =
    "doc,docx,docm,dot,dotx,dotm,rtf,odt,ott,fodt,xls,xlsx,xlsm,xlsb,xlt,xltx,ods,ots,fods,csv,ppt,pptx,pptm,pps,ppsx,"
    "pot,"
    "potx,odp,otp,fodp,odg,otg,fodg,odb,odf,vsd,vsdx,pub,mpp,txt,html";

extern const std::span<const Habit> kBackupTrees;  // folders in which times stand
extern const std::span<const Habit> kOffice;
extern const std::span<const Habit> kEditors;
extern const std::span<const Habit> kDesign;     // drawing, photo, film and sound programs
extern const std::span<const Habit> kTransfers;  // downloads, attachments, what is written to be renamed
extern const std::span<const Habit> kCaches;
extern const std::span<const Habit> kCheckers;
extern const std::span<const Habit> kEveryday;  // endings that many programs share

}  // namespace dredger::lives::habits
