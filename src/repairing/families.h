// The menders, each of which has a file or a folder of its own. menders.cpp lists them.
#pragma once

#include "repairing/mending.h"

namespace dredger::repairing {

const Mender& zip_mender();
const Mender& tar_mender();
const Mender& rar_mender();
const Mender& seven_zip_mender();
const Mender& packed_mender();
const Mender& jpeg_mender();
const Mender& film_mender();
const Mender& avi_mender();
const Mender& compound_mender();
const Mender& pdf_mender();
const Mender& framed_mender();
const Mender& ogg_mender();
const Mender& matroska_mender();
const Mender& png_mender();
const Mender& raw_mender();
const Mender& wav_mender();

}  // namespace dredger::repairing
