// What GMime hands out, given back by itself.
#pragma once

#include <gmime/gmime.h>
#include <memory>
#include <string>
#include <string_view>

namespace dredger::formats {

struct Unreferenced {
    void operator()(gpointer object) const { g_object_unref(object); }
};
template <class T>
using Owned = std::unique_ptr<T, Unreferenced>;

// For the messages in `bytes`, which must outlive it.
inline Owned<GMimeParser> parser_of(std::string_view bytes) {
    // Made ready once, whatever thread asks first.
    [[maybe_unused]] static const bool is_ready = (g_mime_init(), true);
    const Owned<GMimeStream> stream(g_mime_stream_mem_new_with_buffer(bytes.data(), bytes.size()));
    return Owned<GMimeParser>(g_mime_parser_new_with_stream(stream.get()));
}

// A text that GMime or GLib allocated; empty for none.
inline std::string taken(char* text) {
    std::string copy = text != nullptr ? text : "";
    g_free(text);
    return copy;
}

// What was written to a stream in memory.
inline std::string written_to(const Owned<GMimeStream>& memory) {
    const GByteArray* bytes = g_mime_stream_mem_get_byte_array(reinterpret_cast<GMimeStreamMem*>(memory.get()));
    return {reinterpret_cast<const char*>(bytes->data), bytes->len};
}

inline std::string addresses_of(InternetAddressList* list) {
    return list == nullptr ? "" : taken(internet_address_list_to_string(list, nullptr, FALSE));
}

}  // namespace dredger::formats
