// Stereolithography, in lines and in binary (3D Systems, "StereoLithography Interface Specification").
#include <algorithm>
#include <array>
#include <bit>
#include <cmath>

#include "formats/characters.h"
#include "formats/families.h"

namespace dredger::formats {
namespace {

unsigned bid_lines(ByteView head) {
    if (!head.has(0, "solid")) return 0;
    const auto text =
        std::string_view(reinterpret_cast<const char*>(head.bytes().data()), std::min<std::size_t>(head.size(), 512));
    return text.find("facet normal") != std::string_view::npos ? 64 : 0;
}

Measured measure_lines(Reader& content) {
    const std::uint64_t limit = end_of_characters(content, 0);
    auto end = content.find("endsolid", 0, limit);
    if (!end) return broken(limit, "its last line is missing");
    // Several bodies may follow each other.
    for (std::uint64_t line = *end;;) {
        const auto feed = content.find("\n", line, limit);
        line = feed ? *feed + 1 : limit;
        if (!content.has(line, "solid")) return whole(line, Proof::chain);
        end = content.find("endsolid", line, limit);
        if (!end) return broken(limit, "its last line is missing");
        line = *end;
    }
}

constexpr std::uint64_t kStlHeader = 84, kTriangle = 50;

// The corners are places in a room, and the normal is of length one, or left out.
bool is_triangle(const std::array<float, 12>& numbers) {
    constexpr float kFar = 1e9F, kClose = 1e-20F;
    for (const float number : numbers)
        if (!std::isfinite(number) || std::abs(number) > kFar || (number != 0 && std::abs(number) < kClose))
            return false;
    const float length = std::hypot(numbers[0], numbers[1], numbers[2]);
    return length == 0 || std::abs(length - 1) < 0.01F;
}

template <class Number>
std::array<float, 12> triangle_at(std::uint64_t at, const Number& number) {
    std::array<float, 12> numbers{};
    for (std::size_t i = 0; i < numbers.size(); ++i) numbers[i] = std::bit_cast<float>(number(at + 4 * i));
    return numbers;
}

unsigned bid_triangles(ByteView head) {
    constexpr unsigned kBits = 24;
    constexpr std::uint32_t kMaxTriangles = 100'000'000;
    const std::uint32_t count = head.u32le(80).value_or(0);
    if (count < 3 || count > kMaxTriangles) return 0;
    unsigned normals = 0;
    for (std::uint64_t i = 0; i < 3; ++i) {
        const std::uint64_t at = kStlHeader + kTriangle * i;
        if (at + kTriangle > head.size()) return 0;
        const auto numbers =
            triangle_at(at, [&](std::uint64_t where) { return head.u32le(where).value_or(0x7F800000U); });
        if (!is_triangle(numbers)) return 0;
        const bool is_flat = std::all_of(numbers.begin() + 3, numbers.end(), [](float f) { return f == 0; });
        normals += !is_flat && (numbers[0] != 0 || numbers[1] != 0 || numbers[2] != 0) ? 1 : 0;
    }
    return normals >= 2 ? kBits : 0;
}

Measured measure_triangles(Reader& content) {
    const std::uint64_t count = content.u32le(80), end = kStlHeader + kTriangle * count;
    for (std::uint64_t i = 0; i < count; ++i) {
        const std::uint64_t at = kStlHeader + kTriangle * i;
        if (!content.holds(at, kTriangle)) return sized(content, end, Proof::length);
        if (!is_triangle(triangle_at(at, [&](std::uint64_t where) { return content.u32le(where); })))
            return broken(at, "a triangle makes no sense", end);
    }
    return whole(end, Proof::chain);
}

// A file in binary may begin with the word of the other kind, too.
unsigned bid_stl(ByteView head) { return std::max(bid_lines(head), bid_triangles(head)); }

Measured measure_stl(Reader& content) {
    const std::string start = content.text(0, 512);
    return start.starts_with("solid") && start.find("facet normal") != std::string::npos ? measure_lines(content)
                                                                                         : measure_triangles(content);
}

}  // namespace

const std::vector<Format>& stl() {
    static const std::vector<Format> family = {
        {.name = "stl",
         .kind = Kind::picture,
         .extensions = {"stl"},
         .signatures = {{{0, "solid"sv}}, {{132, "\0\0"sv}, {182, "\0\0"sv}, {232, "\0\0"sv}}},
         .is_loose = true,
         .bid = bid_stl,
         .measure = measure_stl,
         .ending = "the end of its last body, or the number of its triangles",
         .checked = "that it is text, or that every triangle is one"},
    };
    return family;
}

}  // namespace dredger::formats
