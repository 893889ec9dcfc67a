// The stores that the registry lists, each from a file or folder of its own.
#pragma once

#include "stores/store.h"

namespace dredger::stores {

Result<std::unique_ptr<MailStore>> open_pst(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_mbox(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_dbx(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_msg(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_tnef(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_eml(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_address_book(MediumPtr file, bool is_told);
Result<std::unique_ptr<MailStore>> open_mail_tree(MediumPtr file, bool is_told);

}  // namespace dredger::stores
