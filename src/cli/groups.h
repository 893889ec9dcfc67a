// Finds counted together, for dredger list --group.
#pragma once

#include <functional>
#include <optional>

#include "catalog/catalog.h"

namespace dredger::cli {

enum class Form { table, jsonl, csv };
inline constexpr std::string_view kFormWords[] = {"table", "jsonl", "csv"};

// "17 files, 1.4 MiB: 12 sound, 5 gone; 2 folders"
void print_totals(const Totals& totals);

// `each` hands over the groups of all catalogs, one behind the other. How many finds there are.
Result<std::uint64_t> print_groups(Grouping grouping, std::optional<std::size_t> depth, Form form,
                                   const std::function<Result<void>(const Catalog::GroupSink&)>& each);

}  // namespace dredger::cli
