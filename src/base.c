/* base.c - statuses, layouts, memory, handles, names and text. */
#include "internal.h"

/* ------------------------------------------------------------- statuses -- */

static const struct status_row {
    ikv_status status;
    const char *name, *text;
} status_rows[] = {
#define IKV_X(value, name, text) {(value), #name, text},
    IKV_STATUSES(IKV_X)
#undef IKV_X
};

static const struct status_row *status_row(ikv_status status)
{
    size_t count = sizeof status_rows / sizeof status_rows[0];
    for (size_t i = 0; i < count; i++)
        if (status_rows[i].status == status)
            return &status_rows[i];
    return NULL;
}

const char *ikv_status_name(ikv_status status)
{
    const struct status_row *row = status_row(status);
    return row != NULL ? row->name : "UNKNOWN_STATUS";
}

const char *ikv_status_text(ikv_status status)
{
    const struct status_row *row = status_row(status);
    return row != NULL ? row->text : "not a status of this version";
}

#define VERSION_TEXT_(a, b, c) #a "." #b "." #c
#define VERSION_TEXT(a, b, c)  VERSION_TEXT_(a, b, c)

const char *ikv_version(void)
{
    return VERSION_TEXT(IKV_VERSION_MAJOR, IKV_VERSION_MINOR,
                        IKV_VERSION_PATCH);
}

#ifdef IKV_DEBUG
/* Stops where a debugger or a sanitizer shows it; nothing to print with. */
void ikvi_broken(const char *condition, const char *file, int line)
{
    (void)condition, (void)file, (void)line;
    __builtin_trap();
}
#endif

/* -------------------------------------------------------------- layouts -- */

size_t ikvi_layout_add(ikvi_layout *layout, size_t count, size_t size)
{
    size_t offset = layout->size;
    if (size != 0 && count > (SIZE_MAX / 2 - offset) / size) {
        layout->overflow = true;
        return 0;
    }
    size_t end = offset + count * size;
    layout->size =
        (end + IKV_BLOCK_ALIGNMENT - 1) & ~(size_t)(IKV_BLOCK_ALIGNMENT - 1);
    return offset;
}

size_t ikvi_layout_size(const ikvi_layout *layout)
{
    return layout->overflow ? 0 : layout->size;
}

ikv_status ikvi_memory_take(const ikv_memory *memory, size_t size, void **block)
{
    if (size == 0)
        return IKV_BAD_CONFIG;
    void *found = memory->block;
    if (found != NULL && memory->block_size < size)
        return IKV_NO_MEMORY;
    if (found == NULL && memory->take != NULL)
        found = memory->take(memory->user, size, IKV_BLOCK_ALIGNMENT);
    if (found == NULL)
        return IKV_NO_MEMORY;
    if ((uintptr_t)found % IKV_BLOCK_ALIGNMENT != 0) {
        if (memory->block == NULL && memory->give != NULL)
            memory->give(memory->user, found, size);
        return IKV_BAD_ARGUMENT;
    }
    memset(found, 0, size);
    *block = found;
    return IKV_OK;
}

void ikvi_memory_give(const ikv_memory *memory, void *block, size_t size)
{
    if (memory->block == NULL && memory->give != NULL)
        memory->give(memory->user, block, size);
}

uint32_t ikvi_power_of_two(uint32_t at_least)
{
    uint32_t power = 1;
    while (power < at_least && power < 0x80000000u)
        power *= 2;
    return power;
}

/* -------------------------------------------------------------- handles -- */

void ikvi_slots_open(ikvi_slots *slots, uint32_t capacity, size_t offset,
                     void *base)
{
    *slots = (ikvi_slots){
        .capacity = capacity, .slots = offset, .floors = slots->floors};
    while (slots->bits < 31 && (1u << slots->bits) <= capacity)
        slots->bits++;
    for (uint32_t i = 0; i < capacity; i++) {
        ikvi_slot *slot = ikvi_slots_at(slots, base, i);
        slot->next = i + 1 < capacity ? i + 1 : IKVI_NO_SLOT;
        slot->generation = 0;
    }
    slots->head = capacity > 0 ? 0 : IKVI_NO_SLOT;
    slots->tail = capacity > 0 ? capacity - 1 : IKVI_NO_SLOT;
}

static uint32_t next_generation(ikvi_slots *slots, uint32_t generation)
{
    bool last = generation == UINT32_MAX >> slots->bits;
    slots->wraps += last;
    return last ? 0 : generation + 1;
}

uint32_t ikvi_slots_take(ikvi_slots *slots, void *base)
{
    uint32_t index = slots->head;
    if (index == IKVI_NO_SLOT)
        return IKVI_NO_SLOT;
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    slots->head = slot->next;
    if (slots->head == IKVI_NO_SLOT)
        slots->tail = IKVI_NO_SLOT;
    slot->next = IKVI_IN_USE;
    if (slots->floors != 0) {
        uint32_t *floor = (uint32_t *)ikvi_at(base, slots->floors) + index;
        slot->generation = *floor;
        *floor = next_generation(slots, *floor);
    }
    if (++slots->used > slots->high)
        slots->high = slots->used;
    return index;
}

void ikvi_slots_give(ikvi_slots *slots, void *base, uint32_t index)
{
    ikvi_slot *slot = ikvi_slots_at(slots, base, index);
    IKVI_CHECK(slot->next == IKVI_IN_USE);
    if (slots->floors == 0)
        slot->generation = next_generation(slots, slot->generation);
    slot->next = IKVI_NO_SLOT;
    if (slots->tail != IKVI_NO_SLOT)
        ikvi_slots_at(slots, base, slots->tail)->next = index;
    else
        slots->head = index;
    slots->tail = index;
    slots->used--;
}

const char *ikvi_slots_validate(const ikvi_slots *slots, void *base)
{
    uint32_t free_count = 0, last = IKVI_NO_SLOT;
    for (uint32_t i = slots->head; i != IKVI_NO_SLOT;) {
        if (i >= slots->capacity || ++free_count > slots->capacity)
            return "H1";
        last = i;
        i = ikvi_slots_at(slots, base, i)->next;
    }
    if (last != slots->tail)
        return "H1";
    return free_count + slots->used == slots->capacity ? NULL : "H3";
}

/* ---------------------------------------------------------------- names -- */

/* Each string is preceded by the offset of the next one in its bucket. The
 * first byte of all is the empty string's. */
void ikvi_names_layout(ikvi_names *names, ikvi_layout *layout,
                       uint32_t capacity)
{
    *names = (ikvi_names){.capacity = capacity, .used = 1};
    names->buckets = ikvi_power_of_two(capacity / 32 + 1);
    names->bytes = ikvi_layout_add(layout, capacity, 1);
    names->heads = ikvi_layout_add(layout, names->buckets, sizeof(uint32_t));
}

static size_t length_of(const char *string)
{
    size_t length = 0;
    while (string[length] != '\0')
        length++;
    return length;
}

static uint32_t name_hash(const char *text)
{
    uint32_t hash = 2166136261u; /* FNV-1a */
    for (; *text != '\0'; text++)
        hash = (hash ^ (uint8_t)*text) * 16777619u;
    return hash;
}

static uint32_t *name_head(const ikvi_names *names, void *base,
                           const char *text)
{
    uint32_t *heads = ikvi_at(base, names->heads);
    return &heads[name_hash(text) & (names->buckets - 1)];
}

uint32_t ikvi_names_find(const ikvi_names *names, void *base, const char *text)
{
    const char *bytes = ikvi_at(base, names->bytes);
    for (uint32_t at = *name_head(names, base, text); at != 0;) {
        if (ikvi_same(bytes + at, text))
            return at;
        memcpy(&at, bytes + at - sizeof at, sizeof at);
    }
    return 0;
}

uint32_t ikvi_names_keep(ikvi_names *names, void *base, const char *text)
{
    if (text == NULL || text[0] == '\0')
        return 0;
    uint32_t known = ikvi_names_find(names, base, text);
    if (known != 0)
        return known;
    uint32_t *head = name_head(names, base, text);
    char *bytes = ikvi_at(base, names->bytes);
    size_t length = length_of(text) + 1;
    if (length + sizeof *head > names->capacity - names->used)
        return 0;
    uint32_t at = names->used + (uint32_t)sizeof *head;
    memcpy(bytes + at - sizeof *head, head, sizeof *head);
    memcpy(bytes + at, text, length);
    names->used = at + (uint32_t)length;
    *head = at;
    return at;
}

/* ----------------------------------------------------------------- text -- */

void ikvi_text_bytes(ikvi_text *text, const char *bytes, size_t count)
{
    if (text->length < text->size) {
        size_t room = text->size - text->length;
        memcpy(text->buffer + text->length, bytes, count < room ? count : room);
    }
    text->length += count;
}

void ikvi_text_add(ikvi_text *text, const char *string)
{
    ikvi_text_bytes(text, string, length_of(string));
}

void ikvi_text_unsigned(ikvi_text *text, uint64_t value)
{
    char digits[20];
    size_t at = sizeof digits;
    do {
        digits[--at] = (char)('0' + value % 10);
        value /= 10;
    } while (value != 0);
    ikvi_text_bytes(text, digits + at, sizeof digits - at);
}

void ikvi_text_signed(ikvi_text *text, int64_t value)
{
    if (value < 0)
        ikvi_text_add(text, "-");
    ikvi_text_unsigned(text, value < 0 ? -(uint64_t)value : (uint64_t)value);
}

void ikvi_text_hex(ikvi_text *text, uint32_t value)
{
    char digits[8];
    for (size_t i = sizeof digits; i-- > 0; value >>= 4)
        digits[i] = "0123456789abcdef"[value & 15];
    ikvi_text_bytes(text, digits, sizeof digits);
}

size_t ikvi_text_end(ikvi_text *text)
{
    if (text->size > 0) {
        size_t end = text->size - 1;
        text->buffer[text->length < end ? text->length : end] = '\0';
    }
    return text->length;
}

void ikvi_message(ikv_message *message, const char *const *parts)
{
    if (message == NULL)
        return;
    ikvi_text text = {message->text, sizeof message->text, 0};
    for (size_t i = 0; parts[i] != NULL; i++)
        ikvi_text_add(&text, parts[i]);
    ikvi_text_end(&text);
}

bool ikvi_same(const char *a, const char *b)
{
    while (*a != '\0' && *a == *b)
        a++, b++;
    return *a == *b;
}
