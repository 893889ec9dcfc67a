#include "manual/document_page.h"

#include <algorithm>
#include <cmark-gfm-core-extensions.h>
#include <cmark-gfm.h>
#include <cstdlib>
#include <fmt/format.h>
#include <memory>
#include <vector>

#include "manual/roff.h"

namespace dredger::manual {
namespace {

constexpr int kWidth = 78;  // of the lines of a page's source

using Parser = std::unique_ptr<cmark_parser, decltype(&cmark_parser_free)>;
using Tree = std::unique_ptr<cmark_node, decltype(&cmark_node_free)>;
using Text = std::unique_ptr<char, decltype(&std::free)>;

std::vector<cmark_node*> nodes_of(cmark_node* tree, std::string_view type) {
    std::vector<cmark_node*> nodes;
    const std::unique_ptr<cmark_iter, decltype(&cmark_iter_free)> at(cmark_iter_new(tree), cmark_iter_free);
    for (cmark_event_type event = cmark_iter_next(at.get()); event != CMARK_EVENT_DONE;
         event = cmark_iter_next(at.get()))
        if (cmark_node* node = cmark_iter_get_node(at.get());
            event == CMARK_EVENT_ENTER && cmark_node_get_type_string(node) == type)
            nodes.push_back(node);
    return nodes;
}

// What stands within a node takes its place.
void unwrap(cmark_node* node) {
    while (cmark_node* child = cmark_node_first_child(node)) cmark_node_insert_before(node, child);
    cmark_node_free(node);
}

void replace_all(std::string& text, std::string_view what, std::string_view by) {
    for (std::size_t at = text.find(what); at != text.npos; at = text.find(what, at + by.size()))
        text.replace(at, what.size(), by);
}

// The renderer writes for one formatter; these are the macros and fonts that all of them know.
std::string portable(std::string text) {
    replace_all(text, ".IP\n.nf\n\\f[C]\n", ".PP\n.RS 4\n.EX\n");
    replace_all(text, "\\f[]\n.fi\n", ".EE\n.RE\n");
    replace_all(text, "\\f[C]", "\\fB");
    replace_all(text, "\\f[]", "\\fR");
    replace_all(text, "\n.SH\n", "\n.SH ");
    replace_all(text, "\n.SS\n", "\n.SS ");
    return text;
}

std::string rendered(cmark_node* tree) {
    const Text text(cmark_render_man(tree, CMARK_OPT_DEFAULT, kWidth), std::free);
    return portable(text.get());
}

// What stands in a cell, as a line or several.
std::string text_of_cell(cmark_node* cell) {
    const Tree document(cmark_node_new(CMARK_NODE_DOCUMENT), cmark_node_free);
    cmark_node* paragraph = cmark_node_new(CMARK_NODE_PARAGRAPH);
    cmark_node_append_child(document.get(), paragraph);
    while (cmark_node* child = cmark_node_first_child(cell)) cmark_node_append_child(paragraph, child);
    std::string text = rendered(document.get());
    if (text.starts_with(".PP\n")) text.erase(0, 4);
    while (text.ends_with('\n')) text.pop_back();
    return text;
}

// A terminal is too narrow for columns of sentences: a row becomes an entry, of what its first cell names.
std::string entries_of(cmark_node* table) {
    std::string entries;
    cmark_node* titles = cmark_node_first_child(table);
    for (cmark_node* row = cmark_node_next(titles); row != nullptr; row = cmark_node_next(row)) {
        cmark_node* cell = cmark_node_first_child(row);
        entries += fmt::format(".TP\n{}\n", text_of_cell(cell));
        for (cell = cmark_node_next(cell); cell != nullptr; cell = cmark_node_next(cell))
            entries += text_of_cell(cell) + "\n";
    }
    return entries;
}

// A page's title is its own, its documents have no addresses, and it has no tables.
void fit(cmark_node* tree) {
    for (cmark_node* heading : nodes_of(tree, "heading"))
        if (const int level = cmark_node_get_heading_level(heading); level == 1)
            cmark_node_free(heading);
        else
            cmark_node_set_heading_level(heading, level - 1);
    for (cmark_node* link : nodes_of(tree, "link"))
        if (std::string_view(cmark_node_get_url(link)).find("://") == std::string_view::npos) unwrap(link);
    for (cmark_node* table : nodes_of(tree, "table")) {
        cmark_node* entries = cmark_node_new(CMARK_NODE_CUSTOM_BLOCK);
        cmark_node_insert_before(table, entries);
        cmark_node_set_on_enter(entries, entries_of(table).c_str());
        cmark_node_free(table);
    }
}

}  // namespace

Result<std::string> document_page(const DocumentPage& page, const std::string& markdown, std::string_view date) {
    cmark_gfm_core_extensions_ensure_registered();
    const Parser parser(cmark_parser_new(CMARK_OPT_DEFAULT), cmark_parser_free);
    cmark_syntax_extension* tables = cmark_find_syntax_extension("table");
    if (tables == nullptr || cmark_parser_attach_syntax_extension(parser.get(), tables) == 0)
        return fail(ErrorKind::output, "tables can't be read", page.name);
    cmark_parser_feed(parser.get(), markdown.data(), markdown.size());
    const Tree tree(cmark_parser_finish(parser.get()), cmark_node_free);
    fit(tree.get());
    return without_empty_paragraphs(fmt::format("{}.SH NAME\n{} \\- {}\n.SH DESCRIPTION\n{}",
                                                page_head(page.name, page.section, date), escaped(page.name),
                                                escaped(page.brief), rendered(tree.get())));
}

}  // namespace dredger::manual
