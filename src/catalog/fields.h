// The fields of a candidate, each named once, under the names of their columns: the table, its statements and the
// spool of a scan follow from these lists. A field that is added here is kept from then on; catalogs that exist get it
// by a step in schema.cpp.
#pragma once

#include "catalog/candidate.h"

namespace dredger::fields {

// What a record says of a file, but for the sentences about it, which become reasons. `Entry` may be const.
template <class Entry, class Visit>
void each_of_entry(Entry& entry, const Visit& visit) {
    visit("tree", entry.identity.tree);
    visit("record", entry.identity.number);
    visit("generation", entry.identity.generation);
    visit("shares", entry.shares);
    visit("version", entry.version);
    visit("state", entry.state);
    visit("origin", entry.origin);
    visit("is_folder", entry.is_folder);
    visit("is_own", entry.is_own);
    visit("folder", entry.folder);
    visit("name", entry.name);
    visit("stream", entry.stream);
    visit("name_is_whole", entry.name_is_whole);
    visit("name_is_placeholder", entry.name_is_placeholder);
    visit("size", entry.size);
    visit("created", entry.created);
    visit("modified", entry.modified);
    visit("accessed", entry.accessed);
    visit("changed", entry.changed);
    visit("deleted", entry.deleted);
    visit("attributes", entry.attributes);
    visit("facts", entry.facts);
    visit("trust", entry.trust);
}

// Of a layout, but for its extents and sums.
template <class AnyLayout, class Visit>
void each_of_layout(AnyLayout& layout, const Visit& visit) {
    visit("codec", layout.codec);
    visit("unit", layout.unit);
    visit("within_records", layout.within_records);
}

template <class AnyLearnt, class Visit>
void each_learnt(AnyLearnt& learnt, const Visit& visit) {
    visit("kind", learnt.kind);
    visit("format", learnt.format);
    visit("prospect", learnt.prospect.value);
    visit("band", learnt.prospect.band);
    visit("chk", learnt.prospect.check);
    visit("reasons", learnt.prospect.reasons);
    visit("proof", learnt.proof);
    visit("checked", learnt.is_checked);
    visit("likeness", learnt.likeness);
}

// A row of the table `candidates`.
template <class AnyCandidate, class Visit>
void each_column(AnyCandidate& candidate, const Visit& visit) {
    visit("id", candidate.id);
    visit("volume", candidate.volume);
    each_of_entry(candidate.record, visit);
    each_of_layout(candidate.layout, visit);
    each_learnt(candidate, visit);
    visit("content", candidate.content);
    visit("role", candidate.copy.role);
    visit("document", candidate.copy.of);
    visit("as_of", candidate.copy.as_of);
    visit("role_why", candidate.copy.why);
}

}  // namespace dredger::fields
