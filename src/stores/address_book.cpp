// Address books and calendars that programs keep in SQLite databases: Thunderbird's (abook.sqlite: a row for each
// property of a card; local.sqlite: a row for each event, times in microseconds since 1970) and the Mac's (tables of
// Core Data). Their entries become vCards and iCalendar objects. Sources: the tables as these programs declare them in
// the databases.
#include <fmt/format.h>
#include <functional>
#include <map>
#include <memory>
#include <sqlite3.h>

#include "base/bytes.h"
#include "base/text.h"
#include "stores/cards.h"
#include "stores/families.h"
#include "stores/mapi/properties.h"
#include "stores/telling.h"

namespace dredger::stores {
namespace {

constexpr std::uint64_t kMostSize = 256 << 20;  // bytes of a database
constexpr int kStepsAtOnce = 100'000;
constexpr unsigned kMostSteps = 2'000;  // of so many; a database may be made to be slow
constexpr std::size_t kMostEntries = 200'000;

struct Closing {
    void operator()(sqlite3* database) const { sqlite3_close_v2(database); }
    void operator()(sqlite3_stmt* statement) const { sqlite3_finalize(statement); }
};

// A database in memory. What it declares can't do anything.
class Tables {
  public:
    explicit Tables(const std::string& bytes) {
        sqlite3* handle = nullptr;
        if (sqlite3_open_v2(":memory:", &handle, SQLITE_OPEN_READWRITE | SQLITE_OPEN_MEMORY, nullptr) != SQLITE_OK)
            return;
        database_.reset(handle);
        auto* copy = static_cast<unsigned char*>(sqlite3_malloc64(bytes.size()));
        if (copy == nullptr) return;
        std::copy(bytes.begin(), bytes.end(), copy);
        const auto size = static_cast<sqlite3_int64>(bytes.size());
        is_open_ = sqlite3_deserialize(handle, "main", copy, size, size,
                                       SQLITE_DESERIALIZE_FREEONCLOSE | SQLITE_DESERIALIZE_READONLY) == SQLITE_OK;
        sqlite3_db_config(handle, SQLITE_DBCONFIG_TRUSTED_SCHEMA, 0, nullptr);
        sqlite3_db_config(handle, SQLITE_DBCONFIG_ENABLE_TRIGGER, 0, nullptr);
        sqlite3_progress_handler(
            handle, kStepsAtOnce, [](void* self) { return ++static_cast<Tables*>(self)->steps_ > kMostSteps ? 1 : 0; },
            this);
    }
    Tables(const Tables&) = delete;
    Tables& operator=(const Tables&) = delete;

    // Hands over the rows of a query; false where it can't be asked.
    bool each(const char* sql, const std::function<void(sqlite3_stmt*)>& row) const {
        sqlite3_stmt* prepared = nullptr;
        if (!is_open_ || sqlite3_prepare_v2(database_.get(), sql, -1, &prepared, nullptr) != SQLITE_OK) return false;
        const std::unique_ptr<sqlite3_stmt, Closing> statement(prepared);
        for (std::size_t n = 0; n < kMostEntries && sqlite3_step(prepared) == SQLITE_ROW; ++n) row(prepared);
        return true;
    }

  private:
    std::unique_ptr<sqlite3, Closing> database_;
    bool is_open_ = false;
    unsigned steps_ = 0;
};

std::string text_at(sqlite3_stmt* row, int column) {
    const auto* text = sqlite3_column_text(row, column);
    return text == nullptr ? "" : valid_utf8(reinterpret_cast<const char*>(text));
}

Message card_of(const Contact& contact) {
    Message message;
    message.is = Message::Is::contact;
    message.subject =
        contact.name.empty() ? contact.given + (contact.given.empty() ? "" : " ") + contact.family : contact.name;
    if (message.subject.empty() && !contact.addresses.empty()) message.subject = contact.addresses.front();
    message.card = vcard(contact);
    message.card_extension = "vcf";
    return message;
}

using Entries = std::vector<Message>;

bool read_thunderbird_cards(const Tables& tables, Entries& entries) {
    std::map<std::string, std::map<std::string, std::string>> cards;  // properties, by card
    if (!tables.each("SELECT card, name, value FROM properties ORDER BY card, name",
                     [&](sqlite3_stmt* row) { cards[text_at(row, 0)][text_at(row, 1)] = text_at(row, 2); }))
        return false;
    for (auto& [id, p] : cards) {
        if (p["_vCard"].starts_with("BEGIN:VCARD")) {
            Message message;
            message.is = Message::Is::contact;
            message.subject = p["DisplayName"].empty() ? p["PrimaryEmail"] : p["DisplayName"];
            message.card = p["_vCard"];
            message.card_extension = "vcf";
            entries.push_back(std::move(message));
            continue;
        }
        Contact contact{
            p["DisplayName"], p["FirstName"], p["LastName"], p["Company"], p["JobTitle"], p["Notes"], {}, {}};
        for (const char* name : {"PrimaryEmail", "SecondEmail"})
            if (!p[name].empty()) contact.addresses.push_back(p[name]);
        for (const auto& [name, type] :
             {std::pair("WorkPhone", "WORK"), std::pair("HomePhone", "HOME"), std::pair("CellularNumber", "CELL")})
            if (!p[name].empty()) contact.phones.emplace_back(type, p[name]);
        entries.push_back(card_of(contact));
    }
    return true;
}

bool read_mac_cards(const Tables& tables, Entries& entries) {
    std::map<std::int64_t, Contact> contacts;
    if (!tables.each(
            "SELECT Z_PK, ZFIRSTNAME, ZLASTNAME, ZORGANIZATION, ZJOBTITLE FROM ZABCDRECORD WHERE coalesce(ZFIRSTNAME, "
            "ZLASTNAME, ZORGANIZATION) IS NOT NULL",
            [&](sqlite3_stmt* row) {
                Contact& contact = contacts[sqlite3_column_int64(row, 0)];
                contact.given = text_at(row, 1);
                contact.family = text_at(row, 2);
                contact.company = text_at(row, 3);
                contact.title = text_at(row, 4);
                contact.name =
                    contact.given + (contact.given.empty() || contact.family.empty() ? "" : " ") + contact.family;
                if (contact.name.empty()) contact.name = contact.company;
            }))
        return false;
    const auto add = [&](const char* sql, const std::function<void(Contact&, std::string)>& take) {
        (void)tables.each(sql, [&](sqlite3_stmt* row) {
            const auto contact = contacts.find(sqlite3_column_int64(row, 0));
            if (contact != contacts.end()) take(contact->second, text_at(row, 1));
        });
    };
    add("SELECT ZOWNER, ZADDRESS FROM ZABCDEMAILADDRESS",
        [](Contact& contact, std::string text) { contact.addresses.push_back(std::move(text)); });
    add("SELECT ZOWNER, ZFULLNUMBER FROM ZABCDPHONENUMBER",
        [](Contact& contact, std::string text) { contact.phones.emplace_back("VOICE", std::move(text)); });
    for (const auto& [key, contact] : contacts) entries.push_back(card_of(contact));
    return true;
}

bool read_thunderbird_events(const Tables& tables, Entries& entries) {
    std::map<std::string, std::map<std::string, std::string>> more;  // properties, by event
    (void)tables.each("SELECT item_id, key, value FROM cal_properties",
                      [&](sqlite3_stmt* row) { more[text_at(row, 0)][text_at(row, 1)] = text_at(row, 2); });
    return tables.each("SELECT id, title, event_start, event_end FROM cal_events ORDER BY event_start, id",
                       [&](sqlite3_stmt* row) {
                           const auto moment = [&](int column) -> std::optional<FileTime> {
                               if (sqlite3_column_type(row, column) != SQLITE_INTEGER) return std::nullopt;
                               return FileTime{sqlite3_column_int64(row, column) / 1'000'000, 0, FileTime::Clock::utc};
                           };
                           Event event;
                           event.summary = text_at(row, 1);
                           event.begins = moment(2);
                           event.ends = moment(3);
                           auto& properties = more[text_at(row, 0)];
                           event.location = properties["LOCATION"];
                           event.description = properties["DESCRIPTION"];
                           Message message;
                           message.is = Message::Is::appointment;
                           message.subject = event.summary;
                           message.begins = event.begins;
                           message.card = icalendar(event);
                           message.card_extension = "ics";
                           entries.push_back(std::move(message));
                       });
}

class AddressBook final : public MailStore {
  public:
    AddressBook(const Medium& file, Entries entries) : entries_(std::move(entries)) {
        facts_.filesystem = "address book";
        facts_.size = facts_.used = file.size();
    }

    Result<void> walk(const WalkOptions&, RecordSink& sink, std::vector<std::string>&) const override {
        for (std::size_t n = 0; n < entries_.size(); ++n) {
            Found found;
            found.folder = root();
            found.identity.number = n + 1;
            if (!tell(entries_[n], found, n + 1, std::nullopt,
                      [&](Record&& record) { return sink.take(std::move(record)); }))
                break;
        }
        return {};
    }
    MediumPtr composed(std::uint64_t number) const override {
        const std::uint64_t entry = message_of_number(number);
        return entry == 0 || entry > entries_.size() ? nullptr : part_of(entries_[entry - 1], part_of_number(number));
    }

  private:
    Entries entries_;
};

}  // namespace

Result<std::unique_ptr<MailStore>> open_address_book(MediumPtr file, bool) {
    const auto start = file->size() >= 16 ? file->bytes(0, 16) : Result<std::vector<std::byte>>();
    if (!start || !ByteView(*start).has(0, std::string_view("SQLite format 3\0", 16)) || file->size() > kMostSize)
        return nullptr;
    bool whole = true;
    std::string bytes = mapi::all_of(*file, kMostSize, whole);
    // What it logs beside itself is not here: it is read as it stands (File Format Version Numbers of SQLite's format).
    constexpr std::size_t kWriteVersion = 18, kReadVersion = 19;
    bytes[kWriteVersion] = bytes[kReadVersion] = 1;
    const Tables tables(bytes);
    Entries entries;
    const bool is_book = read_thunderbird_cards(tables, entries) || read_mac_cards(tables, entries);
    const bool is_calendar = read_thunderbird_events(tables, entries);
    if ((!is_book && !is_calendar) || entries.empty()) return nullptr;
    return std::make_unique<AddressBook>(*file, std::move(entries));
}

}  // namespace dredger::stores
