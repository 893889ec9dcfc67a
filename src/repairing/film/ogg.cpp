// Ogg (RFC 3533): pages that stand are kept and counted anew.
#include <algorithm>
#include <boost/crc.hpp>
#include <boost/endian/conversion.hpp>
#include <fmt/format.h>
#include <map>
#include <utility>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kHeader = 27;  // bytes

// Of a page whose own field for it is zero (RFC 3533, 6).
std::uint32_t crc_of(std::string_view page) {
    boost::crc_optimal<32, 0x04C11DB7, 0, 0, false, false> crc;
    crc.process_bytes(page.data(), page.size());
    return crc.checksum();
}

void set_u32(std::string& page, std::size_t at, std::uint32_t value) {
    boost::endian::store_little_u32(reinterpret_cast<unsigned char*>(page.data()) + at, value);
}

// A page that stands whole; empty where there is none.
std::string page_at(Reader& content, std::uint64_t at) {
    if (!content.has(at, "OggS\0"sv) || !content.holds(at, kHeader)) return {};
    const std::uint64_t segments = content.u8(at + 26);
    if (!content.holds(at + kHeader, segments)) return {};
    std::uint64_t length = kHeader + segments;
    for (std::uint64_t i = 0; i < segments; ++i) length += content.u8(at + kHeader + i);
    if (!content.holds(at, length)) return {};
    std::string page = content.text(at, static_cast<std::size_t>(length));
    const std::uint32_t said = content.u32le(at + 22);
    set_u32(page, 22, 0);
    if (crc_of(page) != said) return {};
    set_u32(page, 22, said);
    return page;
}

class OggMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "ogg";
        done_.unit = "pages";
        const Measured found = measured(file_, "ogg", bench_);
        if (!found.format.empty()) done_.format = found.format;
        DREDGER_TRY(output_, bench_.output());
        std::uint64_t lost = 0;
        for (std::uint64_t at = 0; at < content_.size();) {
            if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
            const std::string page = page_at(content_, at);
            if (page.empty()) {
                const auto next = content_.find("OggS\0"sv, at + 1, content_.size());
                lost += next.value_or(content_.size()) - at;
                at = next.value_or(content_.size());
                continue;
            }
            if (!add(page, lost > 0)) {
                done_.of = std::exchange(done_.kept, 0);
                return std::move(done_);
            }
            at += page.size();
        }
        done_.of = done_.kept;
        if (done_.kept == 0) {
            done_.what.emplace_back("none of its pages is whole");
            return std::move(done_);
        }
        const bool is_whole = found.is_whole() && found.length == content_.size() && lost == 0 && reference_.empty();
        if (lost > 0)
            done_.what.push_back(fmt::format("{} bytes belong to no whole page; the pages are counted anew", lost));
        done_.outcome = is_whole ? Outcome::whole : lost > 0 || !reference_.empty() ? Outcome::partly : Outcome::mended;
        return finished(std::move(*output_), std::move(done_));
    }

  private:
    static std::uint32_t serial_of(const std::string& page) {
        return boost::endian::load_little_u32(reinterpret_cast<const unsigned char*>(page.data()) + 14);
    }

    // False where the beginning of its stream is lost and nobody has it.
    bool add(std::string page, bool is_damaged) {
        const std::uint32_t serial = serial_of(page);
        const bool begins = (static_cast<unsigned char>(page[5]) & 2U) != 0;
        if (!begins && !numbers_.contains(serial) && !take_headers(serial)) {
            done_.outcome = without_reference();
            done_.what.emplace_back("its beginning is lost: another recording of the same device would help");
            return false;
        }
        std::uint32_t& number = numbers_[serial];
        if (is_damaged || !reference_.empty()) {
            set_u32(page, 18, number);
            set_u32(page, 22, 0);
            set_u32(page, 22, crc_of(page));
        }
        ++number;
        ++done_.kept;
        output_->add(page);
        return true;
    }

    // The pages in front of the sound, of a reference whose stream then has this one's number.
    bool take_headers(std::uint32_t serial) {
        for (const Reference& reference : bench_.references()) {
            Budget budget = bench_.budget();
            Reader theirs(*reference.content, budget);
            std::uint64_t at = 0;
            std::uint32_t number = 0;
            for (std::string page = page_at(theirs, at); !page.empty(); page = page_at(theirs, at)) {
                at += page.size();
                // Pages before the first that holds sound stand for no time.
                if (number > 0 &&
                    boost::endian::load_little_u64(reinterpret_cast<const unsigned char*>(page.data()) + 6) != 0)
                    break;
                set_u32(page, 14, serial);
                set_u32(page, 18, number++);
                set_u32(page, 22, 0);
                set_u32(page, 22, crc_of(page));
                output_->add(page);
            }
            if (number == 0) continue;
            numbers_[serial] = number;
            reference_ = reference.name;
            done_.what.push_back("its beginning was taken from " + reference.name);
            return true;
        }
        return false;
    }

    std::optional<Output> output_;
    std::map<std::uint32_t, std::uint32_t> numbers_;  // of the next page, by stream
    std::string reference_;
};

}  // namespace

const Mender& ogg_mender() {
    static const Mender mender = {"Ogg",
                                  {"ogg", "opus", "ogv"},
                                  "pages, beginning",
                                  [](const Damaged& file) {
                                      Budget budget;
                                      Reader content(*file.content, budget);
                                      const auto page = content.find("OggS\0"sv, 0, content.size());
                                      return page && !page_at(content, *page).empty() ? 60U : 0U;
                                  },
                                  [](const Damaged& file, Workbench& bench) { return OggMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
