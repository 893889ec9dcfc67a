#include "repairing/picture/jpeg_writer.h"

#include <csetjmp>
#include <cstdio>
#include <cstdlib>
#include <jpeglib.h>

namespace dredger::repairing {
namespace {

// libjpeg leaves by longjmp where it gives up, and counts what it mends. No object with a destructor may live between a
// setjmp and what can leave: both are in functions of their own.
struct Errors {
    jpeg_error_mgr base;
    std::jmp_buf leave;
};
void give_up(j_common_ptr info) { std::longjmp(reinterpret_cast<Errors*>(info->err)->leave, 1); }
void say_nothing(j_common_ptr) {}

void prepare(Errors& errors) {
    jpeg_std_error(&errors.base);
    errors.base.error_exit = give_up;
    errors.base.output_message = say_nothing;
}

struct Written {
    jpeg_compress_struct info{};
    Errors errors{};
    unsigned char* bytes = nullptr;
    unsigned long size = 0;

    Written() {
        prepare(errors);
        info.err = &errors.base;
    }
    Written(const Written&) = delete;
    Written& operator=(const Written&) = delete;
    ~Written() {
        jpeg_destroy_compress(&info);
        std::free(bytes);
    }
    std::string text() const { return {reinterpret_cast<const char*>(bytes), size}; }
};

void write_segments(jpeg_compress_struct& info, const std::vector<JpegSegment>& segments) {
    for (const auto& [marker, bytes] : segments)
        jpeg_write_marker(&info, marker, reinterpret_cast<const JOCTET*>(bytes.data()),
                          static_cast<unsigned>(bytes.size()));
}

void set_frame(jpeg_compress_struct& info, const JpegHeader& header) {
    const JpegFrame& frame = *header.frame;
    const bool is_single = frame.components.size() == 1;
    info.image_width = frame.width;
    info.image_height = frame.height;
    info.input_components = static_cast<int>(frame.components.size());
    info.in_color_space = is_single ? JCS_GRAYSCALE : frame.components.size() == 3 ? JCS_YCbCr : JCS_UNKNOWN;
    jpeg_set_defaults(&info);
    jpeg_set_colorspace(&info, info.in_color_space);
    info.write_JFIF_header = FALSE;
    info.write_Adobe_marker = FALSE;
    info.optimize_coding = TRUE;
    for (std::size_t i = 0; i < header.quantization.size(); ++i) {
        if (!header.quantization[i]) continue;
        unsigned table[64];
        for (std::size_t k = 0; k < 64; ++k) table[kZigzag[k]] = (*header.quantization[i])[k];
        jpeg_add_quant_table(&info, static_cast<int>(i), table, 100, FALSE);
    }
    for (std::size_t c = 0; c < frame.components.size(); ++c) {
        jpeg_component_info& component = info.comp_info[c];
        component.component_id = frame.components[c].id;
        component.h_samp_factor = is_single ? 1 : static_cast<int>(frame.components[c].across);
        component.v_samp_factor = is_single ? 1 : static_cast<int>(frame.components[c].down);
        component.quant_tbl_no = static_cast<int>(frame.components[c].quantization);
    }
}

void write_blocks(Written& to, const JpegHeader& header, const JpegPicture& picture,
                  const std::vector<JpegSegment>& segments) {
    jpeg_compress_struct& info = to.info;
    set_frame(info, header);
    jvirt_barray_ptr arrays[MAX_COMPONENTS] = {};
    const auto components = picture.components();
    for (std::size_t c = 0; c < components.size(); ++c)
        arrays[c] =
            (*info.mem->request_virt_barray)(reinterpret_cast<j_common_ptr>(&info), JPOOL_IMAGE, TRUE,
                                             static_cast<JDIMENSION>(components[c].blocks_across),
                                             static_cast<JDIMENSION>(components[c].blocks_down), components[c].down);
    jpeg_write_coefficients(&info, arrays);
    write_segments(info, segments);
    const std::size_t across = picture.mcus_across();
    for (std::size_t c = 0; c < components.size(); ++c) {
        const JpegPicture::Component& component = components[c];
        for (std::size_t row = 0; row < component.blocks_down; ++row) {
            JBLOCKARRAY rows = (*info.mem->access_virt_barray)(reinterpret_cast<j_common_ptr>(&info), arrays[c],
                                                               static_cast<JDIMENSION>(row), 1, TRUE);
            for (std::size_t column = 0; column < component.blocks_across; ++column) {
                const std::size_t mcu = row / component.down * across + column / component.across;
                for (std::size_t k = 0; k < 64; ++k)
                    rows[0][column][k] =
                        picture.is_known(mcu) ? component.blocks[row * component.blocks_across + column][k] : JCOEF{0};
            }
        }
    }
    jpeg_finish_compress(&info);
}

bool rewrite(Written& to, jpeg_decompress_struct& from, const std::vector<JpegSegment>& segments) {
    jvirt_barray_ptr* arrays = jpeg_read_coefficients(&from);
    if (arrays == nullptr) return false;
    jpeg_copy_critical_parameters(&from, &to.info);
    to.info.write_JFIF_header = FALSE;
    to.info.write_Adobe_marker = FALSE;
    to.info.optimize_coding = TRUE;
    if (from.progressive_mode) jpeg_simple_progression(&to.info);
    jpeg_write_coefficients(&to.info, arrays);
    write_segments(to.info, segments);
    jpeg_finish_compress(&to.info);
    return true;
}

}  // namespace

std::optional<std::string> write_jpeg(const JpegHeader& header, const JpegPicture& picture,
                                      const std::vector<JpegSegment>& segments) {
    Written to;
    if (setjmp(to.errors.leave) != 0) return std::nullopt;
    jpeg_create_compress(&to.info);
    jpeg_mem_dest(&to.info, &to.bytes, &to.size);
    write_blocks(to, header, picture, segments);
    return to.text();
}

std::optional<std::string> rewrite_jpeg(const std::string& jpeg, const std::vector<JpegSegment>& segments,
                                        bool& was_damaged) {
    Written to;
    struct Read {
        jpeg_decompress_struct info{};
        ~Read() { jpeg_destroy_decompress(&info); }
    } from;
    from.info.err = &to.errors.base;
    if (setjmp(to.errors.leave) != 0) return std::nullopt;
    jpeg_create_compress(&to.info);
    jpeg_create_decompress(&from.info);
    jpeg_mem_dest(&to.info, &to.bytes, &to.size);
    jpeg_mem_src(&from.info, reinterpret_cast<const unsigned char*>(jpeg.data()), jpeg.size());
    jpeg_read_header(&from.info, TRUE);
    if (!rewrite(to, from.info, segments)) return std::nullopt;
    was_damaged = to.errors.base.num_warnings > 0;
    return to.text();
}

}  // namespace dredger::repairing
