// Mail stores: what is scanned may be one, and finds on a drive may be.
#pragma once

#include <memory>

#include "media/opened.h"
#include "scanning/scan_session.h"
#include "stores/store.h"

namespace dredger {

// The store that the medium is, by its name and content; null where it is none. A folder that is none is an error: it
// is no medium, either. `medium`: through which it is read.
Result<std::shared_ptr<MailStore>> store_on(const OpenedMedium& opened, const MediumPtr& medium);

// Reads the store that the whole source is.
Result<void> scan_store(ScanSession& session, const std::shared_ptr<MailStore>& store);

// Reads the stores among the finds of the source, each as a volume of its own. False: somebody asked to stop.
Result<bool> scan_stores_in_finds(ScanSession& session);

}  // namespace dredger
