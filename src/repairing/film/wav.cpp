// WAV (Microsoft RIFF, "Multimedia Programming Interface and Data Specifications 1.0"): sizes are told anew, and a lost
// header comes from a reference.
#include <algorithm>
#include <boost/endian/conversion.hpp>
#include <fmt/format.h>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/number_bytes.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr std::uint64_t kMost32 = 0xFFFFFFFF;

// Sizes of longer files don't fit: the largest number stands for them.
std::string size_bytes(std::uint64_t value) { return little32(std::min(value, kMost32)); }

struct WaveForm {
    std::string format;         // what the chunk `fmt ` holds
    std::uint64_t data_at = 0;  // byte of the content; 0: its chunk is not to be found
    std::uint64_t said = 0;     // bytes that this chunk says it has
    std::uint64_t block() const {
        return format.size() < 14
                   ? 1
                   : std::max<std::uint64_t>(
                         1, boost::endian::load_little_u16(reinterpret_cast<const unsigned char*>(format.data()) + 12));
    }
};

WaveForm read_form(Reader& content) {
    WaveForm form;
    const std::uint64_t near = std::min<std::uint64_t>(content.size(), 1 << 20);
    if (const auto found = content.find("fmt "sv, 0, near);
        found && content.u32le(*found + 4) >= 14 && content.u32le(*found + 4) <= 64)
        form.format = content.text(*found + 8, content.u32le(*found + 4));
    if (const auto found = content.find("data"sv, 0, near)) {
        form.data_at = *found + 8;
        form.said = content.u32le(*found + 4);
    }
    return form;
}

class WavMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "wav";
        done_.unit = "bytes";
        const Measured found = measured(file_, "wav", bench_);
        if (shows_no_damage(found)) {
            done_.kept = done_.of = content_.size();
            return as_it_is(file_, bench_, std::move(done_));
        }
        WaveForm form = read_form(content_);
        if (form.format.empty() && !borrow(form)) return std::move(done_);
        return write(form);
    }

  private:
    bool borrow(WaveForm& form) {
        for (const Reference& reference : bench_.references()) {
            Budget budget = bench_.budget();
            Reader theirs(*reference.content, budget);
            const WaveForm other = read_form(theirs);
            if (other.format.empty() || other.data_at == 0) continue;
            form.format = other.format;
            // Recorders of one kind write headers of one length.
            if (form.data_at == 0) form.data_at = other.data_at;
            done_.what.push_back("its header was taken from " + reference.name);
            is_borrowed_ = true;
            return true;
        }
        done_.outcome = without_reference();
        done_.what.emplace_back(bench_.references().empty()
                                    ? "its header is lost: another recording of the same device and settings would help"
                                    : "its header is lost, and no reference has one");
        return false;
    }

    Result<Mended> write(const WaveForm& form) {
        if (form.data_at == 0 || form.data_at >= content_.size()) {
            done_.what.emplace_back("its sound is not to be found");
            return std::move(done_);
        }
        const std::uint64_t there = content_.size() - form.data_at;
        const bool is_told = form.said > 0 && form.said < kMost32 && !is_borrowed_;
        std::uint64_t length = is_told ? std::min(form.said, there) : there;
        length -= length % form.block();
        const bool is_cut = is_told && form.said > there + 1;
        done_.kept = length;
        done_.of = is_cut ? form.said : length;
        for (const Extent& hole : file_.holes) done_.kept -= std::min(done_.kept, hole.length);
        DREDGER_TRY(Output output, bench_.output());
        const std::uint64_t format = form.format.size() + form.format.size() % 2;
        output.add(fmt::format("RIFF{}WAVEfmt {}{}{}data{}", size_bytes(4 + 8 + format + 8 + length + length % 2),
                               size_bytes(form.format.size()), form.format, std::string(form.format.size() % 2, '\0'),
                               size_bytes(length)));
        output.add(*file_.content, form.data_at, length);
        output.add(std::string(length % 2, '\0'));
        if (is_cut) done_.what.emplace_back("its end is missing");
        if (!file_.holes.empty()) done_.what.emplace_back("holes in it are silent");
        if (!is_cut && !is_borrowed_) done_.what.emplace_back("its sizes were made anew");
        done_.outcome = is_cut || !file_.holes.empty() ? Outcome::partly : Outcome::mended;
        return finished(std::move(output), std::move(done_));
    }

    bool is_borrowed_ = false;
};

}  // namespace

const Mender& wav_mender() {
    static const Mender mender = {
        "WAV",
        {"wav"},
        "header, sizes",
        [](const Damaged& file) {
            Budget budget;
            Reader content(*file.content, budget);
            return (content.has(0, "RIFF"sv) ? 16U : 0U) + (content.has(8, "WAVE"sv) ? 16U : 0U) +
                   (read_form(content).format.empty() ? 0U : 16U) + (extension_of(file.name) == "wav" ? 1U : 0U);
        },
        [](const Damaged& file, Workbench& bench) { return WavMending(file, bench).run(); }};
    return mender;
}

}  // namespace dredger::repairing
