#include "repairing/mended.h"

#include <algorithm>

namespace dredger::test {
namespace {

Bytes content_of(repairing::Output& output) {
    const MediumPtr medium = output.content();
    return medium ? medium->bytes(0, static_cast<std::size_t>(medium->size())).value() : Bytes();
}

}  // namespace

const Bytes& sample(const std::string& name) {
    static const auto all = samples();
    return all.at(name);
}

std::string MendedBytes::said() const {
    std::string text;
    for (const std::string& sentence : done.what) text += sentence + "\n";
    return text;
}

MendedBytes mend(const std::string& name, const Bytes& bytes, const std::vector<std::string>& references,
                 std::vector<Extent> holes) {
    std::vector<repairing::Reference> given;
    for (const std::string& reference : references)
        given.push_back({std::make_shared<MemoryMedium>(sample(reference)), reference});
    return mend_with(name, bytes, std::move(given), std::move(holes));
}

MendedBytes mend_with(const std::string& name, const Bytes& bytes, std::vector<repairing::Reference> given,
                      std::vector<Extent> holes) {
    const TempFolder folder;
    repairing::Workbench bench(folder.path(), std::move(given), {});
    repairing::Damaged file{std::make_shared<MemoryMedium>(bytes), name, std::move(holes)};
    EXPECT_TRUE(file.find_holes([] { return false; }).has_value());
    MendedBytes mended;
    const repairing::Mender* mender = repairing::mender_for(file);
    if (mender == nullptr) return mended;
    mended.done = mender->mend(file, bench).value();
    if (mended.done.result) mended.result = content_of(*mended.done.result);
    for (auto& beside : mended.done.beside) mended.beside[beside.name] = content_of(beside.output);
    return mended;
}

Bytes cut(Bytes bytes, std::size_t length) {
    bytes.resize(length);
    return bytes;
}

Bytes without(Bytes bytes, std::size_t at, std::size_t length) {
    const auto from = bytes.begin() + static_cast<std::ptrdiff_t>(at);
    bytes.erase(from, from + static_cast<std::ptrdiff_t>(length));
    return bytes;
}

Bytes zeroed(Bytes bytes, std::size_t at, std::size_t length) {
    std::fill_n(bytes.begin() + static_cast<std::ptrdiff_t>(at), length, std::byte{0});
    return bytes;
}

Bytes with_noise(Bytes bytes, std::size_t at, std::size_t length) {
    std::ranges::copy(noise(length, static_cast<unsigned>(length)), bytes.begin() + static_cast<std::ptrdiff_t>(at));
    return bytes;
}

Bytes with_noise_inserted(Bytes bytes, std::size_t at, std::size_t length) {
    const Bytes foreign = noise(length, static_cast<unsigned>(length));
    bytes.insert(bytes.begin() + static_cast<std::ptrdiff_t>(at), foreign.begin(), foreign.end());
    return bytes;
}

std::size_t place_of(const Bytes& bytes, std::string_view wanted, std::size_t from) {
    const std::string_view all(reinterpret_cast<const char*>(bytes.data()), bytes.size());
    return all.find(wanted, from);
}

bool holds(const Bytes& bytes, std::string_view wanted) { return place_of(bytes, wanted) != std::string_view::npos; }

Measured measured(const char* format, const Bytes& bytes) {
    const MemoryMedium medium(bytes);
    Budget budget;
    Reader reader(medium, budget);
    return measure(*format_named(format), reader);
}

}  // namespace dredger::test
