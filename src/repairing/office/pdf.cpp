// PDF (ISO 32000-1): written anew from the objects that stand, with the lengths of their streams, a table of them and a
// trailer; pages that survived stay pages.
#include <algorithm>
#include <fmt/format.h>
#include <set>

#include "base/text.h"
#include "formats/format.h"
#include "repairing/families.h"
#include "repairing/file_mending.h"
#include "repairing/office/pdf_objects.h"

namespace dredger::repairing {
namespace {

using namespace std::string_view_literals;

constexpr unsigned kDeepest = 64;

class PdfMending : FileMending {
  public:
    using FileMending::FileMending;

    Result<Mended> run() {
        done_.format = "pdf";
        done_.unit = "pages";
        const Measured told = measured(file_, "pdf", bench_);
        found_ = find_pdf_objects(content_);
        if (bench_.should_stop()) return fail(ErrorKind::interrupted, "interrupted");
        if (shows_no_damage(told) && found_.cut == 0) {
            count_pages();
            return as_it_is(file_, bench_, std::move(done_));
        }
        if (found_.objects.empty()) {
            done_.what.emplace_back("none of its objects is to be found");
            return std::move(done_);
        }
        if (found_.trailer.contains("Encrypt") && found_.unpacked == 0 && !has_pages()) {
            done_.what.emplace_back("it is encrypted, and its objects are packed: they can't be told from each other");
            return std::move(done_);
        }
        make_catalog();
        if (done_.kept == 0) {
            done_.what.emplace_back("none of its pages is to be found");
            return std::move(done_);
        }
        return write();
    }

  private:
    bool is_of_type(const PdfObject& object, std::string_view type) const {
        return pdf_value(object.body, "Type") == fmt::format("/{}", type);
    }
    bool has_pages() const {
        return std::any_of(found_.objects.begin(), found_.objects.end(),
                           [&](const auto& one) { return is_of_type(one.second, "Page"); });
    }
    const PdfObject* object(unsigned number) const {
        const auto found = found_.objects.find(number);
        return found == found_.objects.end() ? nullptr : &found->second;
    }

    // The pages that a tree leads to, and how many nodes it names that are lost.
    void walk(unsigned number, std::vector<unsigned>& pages, std::size_t& lost, std::set<unsigned>& passed,
              unsigned depth) const {
        const PdfObject* node = object(number);
        if (node == nullptr) {
            ++lost;
            return;
        }
        if (!passed.insert(number).second || depth > kDeepest) return;
        const std::string kids = pdf_value(node->body, "Kids");
        if (kids.empty()) {
            pages.push_back(number);
            return;
        }
        for (const unsigned kid : pdf_references(kids)) walk(kid, pages, lost, passed, depth + 1);
    }

    void count_pages() {
        for (const auto& [number, one] : found_.objects) done_.kept += is_of_type(one, "Page") ? 1 : 0;
        done_.of = done_.kept;
    }

    // The document's catalog and its tree of pages, as they stand or, where pages are missing in it, made anew.
    void make_catalog() {
        std::vector<unsigned> pages;
        std::size_t lost = 0;
        std::set<unsigned> passed;
        for (const unsigned number : pdf_references(found_.trailer["Root"])) root_ = number;
        if (object(root_) == nullptr || !is_of_type(*object(root_), "Catalog")) {
            root_ = 0;
            for (const auto& [number, one] : found_.objects)
                if (is_of_type(one, "Catalog")) root_ = number;
        }
        if (root_ != 0)
            for (const unsigned tree : pdf_references(pdf_value(object(root_)->body, "Pages")))
                walk(tree, pages, lost, passed, 0);
        std::vector<unsigned> all;
        for (const auto& [number, one] : found_.objects)
            if (is_of_type(one, "Page")) all.push_back(number);
        done_.kept = std::max(pages.size(), all.size());
        done_.of = done_.kept + (root_ == 0 ? 0 : lost);
        if (root_ != 0 && lost == 0 && pages.size() >= all.size()) return;
        // Those that the tree leads to keep their order, the others follow.
        const std::set<unsigned> known(pages.begin(), pages.end());
        for (const unsigned page : all)
            if (!known.contains(page)) pages.push_back(page);
        rebuild_tree(pages);
    }

    void rebuild_tree(const std::vector<unsigned>& pages) {
        done_.what.emplace_back(root_ == 0 ? "its catalog was made anew" : "its list of pages was made anew");
        const unsigned next = found_.objects.rbegin()->first + 1;
        std::string kids;
        for (const unsigned page : pages) {
            kids += fmt::format("{} 0 R ", page);
            adopt(found_.objects[page], next);
        }
        found_.objects[next].body = fmt::format("<< /Type /Pages /Count {} /Kids [ {}] >>", pages.size(), kids);
        if (root_ == 0) {
            root_ = next + 1;
            found_.objects[root_].body = fmt::format("<< /Type /Catalog /Pages {} 0 R >>", next);
            return;
        }
        set(found_.objects[root_].body, "Pages", fmt::format("{} 0 R", next));
    }

    // What a page had from the nodes above it, it gets for itself (7.7.3.4).
    void adopt(PdfObject& page, unsigned parent) {
        for (const std::string_view key : {"MediaBox"sv, "Resources"sv, "CropBox"sv, "Rotate"sv}) {
            unsigned depth = 0;
            std::string value = pdf_value(page.body, key);
            for (const PdfObject* above = &page; value.empty() && above != nullptr && depth < kDeepest; ++depth) {
                const std::vector<unsigned> up = pdf_references(pdf_value(above->body, "Parent"));
                above = up.empty() ? nullptr : object(up.front());
                if (above != nullptr) value = pdf_value(above->body, key);
            }
            if (value.empty() && key == "MediaBox") value = "[0 0 595 842]";
            if (!value.empty() && pdf_value(page.body, key).empty()) set(page.body, key, value);
        }
        set(page.body, "Parent", fmt::format("{} 0 R", parent));
    }

    // In place of the value that a dictionary has, or as a new one.
    static void set(std::string& dictionary, std::string_view key, const std::string& value) {
        const std::string old = pdf_value(dictionary, key);
        const std::string name = fmt::format("/{}", key);
        std::size_t at = old.empty() ? std::string::npos : dictionary.find(name);
        while (at != std::string::npos) {
            const std::size_t start = dictionary.find_first_not_of(" \r\n\t", at + name.size());
            if (start != std::string::npos && dictionary.compare(start, old.size(), old) == 0) {
                dictionary.replace(at, start + old.size() - at, fmt::format("{} {}", name, value));
                return;
            }
            at = dictionary.find(name, at + 1);
        }
        if (const std::size_t open = dictionary.find("<<"); open != std::string::npos)
            dictionary.insert(open + 2, fmt::format(" {} {}", name, value));
    }

    Result<Mended> write() {
        DREDGER_TRY(Output output, bench_.output());
        const std::string head = content_.text(0, 16);
        const bool has_version = head.starts_with("%PDF-1.") || head.starts_with("%PDF-2.");
        output.add(has_version ? head.substr(0, 8) + "\n%\xE2\xE3\xCF\xD3\n" : "%PDF-1.7\n%\xE2\xE3\xCF\xD3\n");
        std::map<unsigned, std::uint64_t> places;
        for (auto& [number, one] : found_.objects) {
            places[number] = output.size();
            if (one.is_stream) set(one.body, "Length", std::to_string(one.data.length));
            output.add(fmt::format("{} {} obj\n{}\n", number, one.generation, one.body));
            if (one.is_stream) {
                output.add("stream\n"sv);
                output.add(*file_.content, one.data.offset, one.data.length);
                output.add("\nendstream\n"sv);
            }
            output.add("endobj\n"sv);
        }
        const std::uint64_t table = output.size();
        const unsigned count = places.rbegin()->first + 1;
        output.add(fmt::format("xref\n0 {}\n0000000000 65535 f \n", count));
        for (unsigned number = 1; number < count; ++number) {
            const auto place = places.find(number);
            output.add(place == places.end()
                           ? std::string("0000000000 65535 f \n")
                           : fmt::format("{:010} {:05} n \n", place->second, found_.objects[number].generation));
        }
        std::string trailer =
            fmt::format("trailer\n<< /Size {} /Root {} {} R", count, root_, found_.objects[root_].generation);
        for (const char* key : {"Info", "ID", "Encrypt"})
            if (const std::string& value = found_.trailer[key];
                !value.empty() && (key != "Info"sv || points_to_known(value)))
                trailer += fmt::format(" /{} {}", key, value);
        output.add(fmt::format("{} >>\nstartxref\n{}\n%%EOF\n", trailer, table));
        tell();
        return finished(std::move(output), std::move(done_));
    }

    bool points_to_known(const std::string& value) const {
        const std::vector<unsigned> numbers = pdf_references(value);
        return !numbers.empty() && object(numbers.front()) != nullptr;
    }

    void tell() {
        done_.what.emplace_back("its table of objects and its trailer were made anew");
        if (found_.repaired_lengths > 0)
            done_.what.push_back(fmt::format("{} streams told a wrong length", found_.repaired_lengths));
        if (found_.cut > 0) done_.what.emplace_back("the last stream is cut off");
        std::size_t missing = 0;
        for (const auto& [number, one] : found_.objects)
            for (const unsigned to : pdf_references(one.body)) missing += object(to) == nullptr ? 1 : 0;
        if (missing > 0) done_.what.push_back(fmt::format("{} references lead to objects that are lost", missing));
        done_.outcome = done_.kept == done_.of && found_.cut == 0 && missing == 0 && file_.holes.empty()
                            ? Outcome::mended
                            : Outcome::partly;
    }

    PdfObjects found_;
    unsigned root_ = 0;
};

unsigned bid_for_pdf(const Damaged& file) {
    Budget budget;
    Reader content(*file.content, budget);
    unsigned bits = extension_of(file.name) == "pdf" ? 1 : 0;
    for (const std::string_view mark : {" 0 obj"sv, "endobj"sv, "endstream"sv})
        if (content.find(mark, 0, std::min<std::uint64_t>(content.size(), 1 << 20))) bits += 20;
    return bits;
}

}  // namespace

const Mender& pdf_mender() {
    static const Mender mender = {
        "PDF", {"pdf"}, "table, trailer, pages", bid_for_pdf, [](const Damaged& file, Workbench& bench) {
            return PdfMending(file, bench).run();
        }};
    return mender;
}

}  // namespace dredger::repairing
