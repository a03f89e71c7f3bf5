/* loop_data.c - what ports push: events, what comes with them beyond their 64
 * bytes, and text of any length.
 *
 * A port's data is copied into a block of the queue's, and when its event is
 * drained into one of the ring's own: those are part of images, and no other
 * thread writes them. A block of the ring's lives until its event has been
 * routed (E3).
 */
#include "loop_internal.h"

/* --------------------------------------------------------------- values -- */

IKVI_APART static ikv_status refuse_value(ikv_sink *sink,
                                          const ikv_event *event)
{
    const ikv_catalogue *catalogue = ikv_bus_catalogue(sink->loop->bus);
    const ikv_field *field = ikvi_event_fault(catalogue, event);
    ikvi_add(&sink->refused, 1);
    /* The last one will do: it is reported once a kind. */
    ikvi_store(&sink->bad, (uint32_t)event->kind << 16 | field->offset);
    ikvi_set_bits(&sink->loop->bad_values, 1);
    return IKV_BAD_VALUE;
}

ikv_status ikvi_loop_check_value(ikv_sink *sink, const ikv_event *event)
{
    const ikv_catalogue *catalogue = ikv_bus_catalogue(sink->loop->bus);
    return IKVI_LIKELY(ikvi_event_is_good(catalogue, event))
               ? IKV_OK
               : refuse_value(sink, event);
}

ikv_status ikv_sink_push(ikv_sink *sink, const ikv_event *event)
{
    if (sink == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_status status = ikvi_loop_check_value(sink, event);
    return status < 0
               ? status
               : ikvi_queue_push_own_from(sink->loop->queue, event, sink->tag);
}

ikv_status ikv_sink_push_any(ikv_sink *sink, const ikv_event *event)
{
    if (sink == NULL || event == NULL)
        return IKV_BAD_ARGUMENT;
    ikv_status status = ikvi_loop_check_value(sink, event);
    return status < 0
               ? status
               : ikvi_queue_push_from(sink->loop->queue, event, sink->tag);
}

/* --------------------------------------------------------------- blocks -- */

uint16_t ikvi_loop_keep_data(ikv_loop *loop, const void *data, uint32_t size)
{
    uint32_t block = 0;
    IKVI_CHECK(size > 0 && size <= loop->block_bytes);
    IKVI_CHECK(loop_free_blocks(loop) > 0);
    while (*loop_block_size(loop, block) > 0)
        block++;
    *loop_block_size(loop, block) = size;
    ++*loop_blocks_used(loop);
    memcpy(loop_block(loop, block), data, size);
    return (uint16_t)(block + 1);
}

void ikvi_loop_free_data(ikv_loop *loop, uint16_t block)
{
    /* E3: who has kept a pointer finds it out. */
    ikvi_poison(loop_block(loop, block - 1u), loop->block_bytes);
    *loop_block_size(loop, block - 1u) = 0;
    --*loop_blocks_used(loop);
}

static bool merges(const ikv_loop *loop, ikv_kind kind)
{
    const ikv_kind_info *info = loop_kind_info(loop, kind);
    return info != NULL && info->queue_class == IKV_QUEUE_MERGEABLE;
}

static bool is_text(ikv_kind kind)
{
    return kind == IKV_KIND_TEXT_INPUT || kind == IKV_KIND_TEXT_COMPOSE;
}

ikv_status ikvi_loop_check_data(const ikv_loop *loop, const ikv_event *event,
                                const void *data, size_t size)
{
    uint32_t bytes;
    ikvi_queue_blocks(loop->queue, &bytes);
    if (merges(loop, event->kind))
        return IKV_NOT_PUSHABLE;
    if (size > bytes || loop->block_count == 0 || size > loop->block_bytes)
        return IKV_BAD_SIZE;
    return is_text(event->kind) && !ikvi_is_utf8(data, size) ? IKV_BAD_VALUE
                                                             : IKV_OK;
}

static ikv_status push_data(ikv_sink *sink, const ikv_event *event,
                            const void *data, size_t size, bool own)
{
    if (sink == NULL || event == NULL || (data == NULL && size > 0))
        return IKV_BAD_ARGUMENT;
    if (size == 0)
        return own ? ikv_sink_push(sink, event)
                   : ikv_sink_push_any(sink, event);
    ikv_queue *queue = sink->loop->queue;
    ikv_event sent = *event;
    ikv_status status = ikvi_loop_check_value(sink, event);
    if (status == IKV_OK)
        status = ikvi_loop_check_data(sink->loop, event, data, size);
    if (status == IKV_OK)
        status =
            ikvi_queue_fill_block(queue, data, (uint32_t)size, &sent.samples);
    if (status < 0)
        return status;
    uint16_t tag = sink->tag | IKVI_TAG_DATA;
    status = own ? ikvi_queue_push_own_from(queue, &sent, tag)
                 : ikvi_queue_push_from(queue, &sent, tag);
    if (status < 0)
        ikvi_queue_free_block(queue, sent.samples);
    return status;
}

ikv_status ikv_sink_push_data(ikv_sink *sink, const ikv_event *event,
                              const void *data, size_t size)
{
    return push_data(sink, event, data, size, true);
}

ikv_status ikv_sink_push_data_any(ikv_sink *sink, const ikv_event *event,
                                  const void *data, size_t size)
{
    return push_data(sink, event, data, size, false);
}

/* ----------------------------------------------------------------- text -- */

/* As many whole code points as a piece holds, in bytes. It is UTF-8. */
static size_t piece_length(const char *text, size_t left, size_t room)
{
    size_t used = left < room ? left : room;
    /* Back to where a code point begins. */
    while (used < left && used > 0 &&
           ((unsigned char)text[used] & 0xc0) == 0x80)
        used--;
    return used;
}

/* A piece of the text, from `at` on: its length. */
static size_t make_piece(ikv_event *piece, const ikv_event *event,
                         const char *text, size_t at, size_t length,
                         size_t room)
{
    size_t used = piece_length(text + at, length - at, room);
    *piece = *event;
    piece->kind = IKV_KIND_TEXT_INPUT;
    memset(&piece->text, 0, sizeof piece->text);
    if (used <= IKV_TEXT_BYTES) {
        piece->text.length = (uint8_t)used;
        memcpy(piece->text.bytes, text + at, used);
    }
    /* The port's own marks would tell of other pieces. */
    piece->flags &= (uint16_t) ~(IKV_FIRST | IKV_MORE);
    piece->flags |= (uint16_t)((at == 0 ? IKV_FIRST : 0) |
                               (at + used < length ? IKV_MORE : 0));
    return used;
}

/* Of a queue without blocks. */
static ikv_status push_short_pieces(ikv_sink *sink, const ikv_event *event,
                                    const char *text, size_t length)
{
    ikv_event pieces[IKV_TEXT_LIMIT / (IKV_TEXT_BYTES - 3) + 1];
    uint32_t count = 0;
    if (length > IKV_TEXT_LIMIT)
        return IKV_FULL_BLOCKS;
    for (size_t at = 0; at < length; count++) {
        IKVI_CHECK(count < sizeof pieces / sizeof pieces[0]);
        at +=
            make_piece(&pieces[count], event, text, at, length, IKV_TEXT_BYTES);
    }
    return ikvi_queue_push_own_all_from(sink->loop->queue, pieces, count,
                                        sink->tag);
}

static void free_blocks(ikv_queue *queue, const uint16_t *blocks,
                        uint32_t count)
{
    while (count > 0)
        ikvi_queue_free_block(queue, blocks[--count]);
}

/* Each piece has a block before the first is pushed. */
static ikv_status push_large_pieces(ikv_sink *sink, const ikv_event *event,
                                    const char *text, size_t length,
                                    size_t bytes)
{
    uint16_t blocks[IKVI_MOST_BLOCKS];
    uint32_t count = 0;
    ikv_event piece;
    ikv_queue *queue = sink->loop->queue;
    ikv_status status = IKV_OK;
    for (size_t at = 0; at < length && status == IKV_OK;) {
        size_t used = piece_length(text + at, length - at, bytes);
        status = count < IKVI_MOST_BLOCKS
                     ? ikvi_queue_fill_block(queue, text + at, (uint32_t)used,
                                             &blocks[count])
                     : IKV_FULL_BLOCKS;
        count += status == IKV_OK;
        at += used;
    }
    /* Nobody else pushes here, so that they all fit then. */
    make_piece(&piece, event, text, 0, length, bytes);
    if (status == IKV_OK &&
        ikv_queue_room_own(queue, IKV_KIND_TEXT_INPUT) < count)
        for (uint32_t i = 0; i < count; i++)
            status = ikvi_queue_refuse_own(queue, &piece, 1);
    if (status < 0) {
        free_blocks(queue, blocks, count);
        return status;
    }
    count = 0;
    for (size_t at = 0; at < length; count++) {
        at += make_piece(&piece, event, text, at, length, bytes);
        /* All of it is in the block. */
        memset(&piece.text, 0, sizeof piece.text);
        piece.samples = blocks[count];
        ikvi_queue_push_own_from(queue, &piece, sink->tag | IKVI_TAG_DATA);
    }
    return IKV_OK;
}

/* All pieces or none go into the queue: half a text is worse than none, and is
 * pushed again. */
ikv_status ikv_sink_push_text(ikv_sink *sink, const ikv_event *event,
                              const char *text, size_t length)
{
    uint32_t bytes;
    if (sink == NULL || event == NULL || (text == NULL && length > 0))
        return IKV_BAD_ARGUMENT;
    if (length == 0)
        return IKV_ABSENT;
    if (!ikvi_is_utf8(text, length))
        return IKV_BAD_VALUE;
    if (event->device >= IKV_DEVICE_LIMIT)
        return IKV_BAD_ARGUMENT;
    ikvi_queue_blocks(sink->loop->queue, &bytes);
    if (bytes > sink->loop->block_bytes)
        bytes = sink->loop->block_bytes;
    if (length <= IKV_TEXT_BYTES || bytes == 0 || sink->loop->block_count == 0)
        return push_short_pieces(sink, event, text, length);
    return push_large_pieces(sink, event, text, length, bytes);
}
