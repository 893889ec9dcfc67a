// The functions of FFmpeg's libraries and of libheif that previews call, by the names that they have there.
#pragma once

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/log.h>
#include <libavutil/opt.h>
#include <libswresample/swresample.h>
#include <libswscale/swscale.h>
}

#include <libheif/heif.h>

#include "base/late_library.h"

namespace dredger::preview {

#define DREDGER_LATE(library, name) decltype(&::name) name = library.function<decltype(::name)>(#name)

// Not to be called where the library is not there.
struct Ffmpeg {
    LateLibrary util{"libavutil.so." AV_STRINGIFY(LIBAVUTIL_VERSION_MAJOR)};
    DREDGER_LATE(util, av_frame_alloc);
    DREDGER_LATE(util, av_frame_free);
    DREDGER_LATE(util, av_frame_unref);
    DREDGER_LATE(util, av_freep);
    DREDGER_LATE(util, av_log_set_level);
    DREDGER_LATE(util, av_malloc);
    DREDGER_LATE(util, av_opt_set);
    DREDGER_LATE(util, av_opt_set_int);

    LateLibrary codec{"libavcodec.so." AV_STRINGIFY(LIBAVCODEC_VERSION_MAJOR)};
    DREDGER_LATE(codec, av_packet_alloc);
    DREDGER_LATE(codec, av_packet_free);
    DREDGER_LATE(codec, av_packet_unref);
    DREDGER_LATE(codec, avcodec_alloc_context3);
    DREDGER_LATE(codec, avcodec_flush_buffers);
    DREDGER_LATE(codec, avcodec_free_context);
    DREDGER_LATE(codec, avcodec_get_name);
    DREDGER_LATE(codec, avcodec_open2);
    DREDGER_LATE(codec, avcodec_parameters_to_context);
    DREDGER_LATE(codec, avcodec_receive_frame);
    DREDGER_LATE(codec, avcodec_send_packet);

    LateLibrary container{"libavformat.so." AV_STRINGIFY(LIBAVFORMAT_VERSION_MAJOR)};
    DREDGER_LATE(container, av_find_best_stream);
    DREDGER_LATE(container, av_read_frame);
    DREDGER_LATE(container, av_seek_frame);
    DREDGER_LATE(container, avformat_alloc_context);
    DREDGER_LATE(container, avformat_close_input);
    DREDGER_LATE(container, avformat_find_stream_info);
    DREDGER_LATE(container, avformat_open_input);
    DREDGER_LATE(container, avio_alloc_context);
    DREDGER_LATE(container, avio_context_free);

    LateLibrary resampling{"libswresample.so." AV_STRINGIFY(LIBSWRESAMPLE_VERSION_MAJOR)};
    DREDGER_LATE(resampling, swr_alloc_set_opts2);
    DREDGER_LATE(resampling, swr_convert);
    DREDGER_LATE(resampling, swr_free);
    DREDGER_LATE(resampling, swr_get_out_samples);
    DREDGER_LATE(resampling, swr_init);

    LateLibrary scaling{"libswscale.so." AV_STRINGIFY(LIBSWSCALE_VERSION_MAJOR)};
    DREDGER_LATE(scaling, sws_freeContext);
    DREDGER_LATE(scaling, sws_getContext);
    DREDGER_LATE(scaling, sws_scale);

    bool is_there() const {
        return util.is_there() && codec.is_there() && container.is_there() && resampling.is_there() &&
               scaling.is_there();
    }
};

struct Heif {
    LateLibrary heif{"libheif.so.1"};
    DREDGER_LATE(heif, heif_context_alloc);
    DREDGER_LATE(heif, heif_context_free);
    DREDGER_LATE(heif, heif_context_get_primary_image_handle);
    DREDGER_LATE(heif, heif_context_read_from_memory_without_copy);
    DREDGER_LATE(heif, heif_decode_image);
    DREDGER_LATE(heif, heif_image_get_plane);
    DREDGER_LATE(heif, heif_image_get_primary_height);
    DREDGER_LATE(heif, heif_image_get_primary_width);
    DREDGER_LATE(heif, heif_image_handle_release);
    DREDGER_LATE(heif, heif_image_release);

    bool is_there() const { return heif.is_there(); }
};

#undef DREDGER_LATE

const Ffmpeg& ffmpeg();
const Heif& heif();

}  // namespace dredger::preview
