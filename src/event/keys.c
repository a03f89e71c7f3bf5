/* keys.c - keys by USB HID usage, W3C code name and meaning, in one table.
 *
 * Usages are those of HID Usage Tables, page 7; names those of UI Events
 * KeyboardEvent code Values and key Values.
 */
#include "text.h"

#include "ikvar/keys.h"

/* Named keys; a key's number is IKV_KEY_NAMED + its place. Append only. */
static const char *const named_keys[] = {
    "Enter",
    "Escape",
    "Backspace",
    "Tab",
    "CapsLock",
    "F1",
    "F2",
    "F3",
    "F4",
    "F5",
    "F6",
    "F7",
    "F8",
    "F9",
    "F10",
    "F11",
    "F12",
    "PrintScreen",
    "ScrollLock",
    "Pause",
    "Insert",
    "Home",
    "PageUp",
    "Delete",
    "End",
    "PageDown",
    "ArrowRight",
    "ArrowLeft",
    "ArrowDown",
    "ArrowUp",
    "NumLock",
    "ContextMenu",
    "Power",
    "F13",
    "F14",
    "F15",
    "F16",
    "F17",
    "F18",
    "F19",
    "F20",
    "F21",
    "F22",
    "F23",
    "F24",
    "Open",
    "Help",
    "Select",
    "Again",
    "Undo",
    "Cut",
    "Copy",
    "Paste",
    "Find",
    "AudioVolumeMute",
    "AudioVolumeUp",
    "AudioVolumeDown",
    "KanaMode",
    "Convert",
    "NonConvert",
    "HangulMode",
    "HanjaMode",
    "Katakana",
    "Hiragana",
    "ZenkakuHankaku",
    "Control",
    "Shift",
    "Alt",
    "Meta",
    "Unidentified",
    "Dead",
    "Process",
    "AltGraph",
    "Clear",
};

enum named_key {
    NAMED_Enter,
    NAMED_Escape,
    NAMED_Backspace,
    NAMED_Tab,
    NAMED_CapsLock,
    NAMED_F1,
    NAMED_F2,
    NAMED_F3,
    NAMED_F4,
    NAMED_F5,
    NAMED_F6,
    NAMED_F7,
    NAMED_F8,
    NAMED_F9,
    NAMED_F10,
    NAMED_F11,
    NAMED_F12,
    NAMED_PrintScreen,
    NAMED_ScrollLock,
    NAMED_Pause,
    NAMED_Insert,
    NAMED_Home,
    NAMED_PageUp,
    NAMED_Delete,
    NAMED_End,
    NAMED_PageDown,
    NAMED_ArrowRight,
    NAMED_ArrowLeft,
    NAMED_ArrowDown,
    NAMED_ArrowUp,
    NAMED_NumLock,
    NAMED_ContextMenu,
    NAMED_Power,
    NAMED_F13,
    NAMED_F14,
    NAMED_F15,
    NAMED_F16,
    NAMED_F17,
    NAMED_F18,
    NAMED_F19,
    NAMED_F20,
    NAMED_F21,
    NAMED_F22,
    NAMED_F23,
    NAMED_F24,
    NAMED_Open,
    NAMED_Help,
    NAMED_Select,
    NAMED_Again,
    NAMED_Undo,
    NAMED_Cut,
    NAMED_Copy,
    NAMED_Paste,
    NAMED_Find,
    NAMED_AudioVolumeMute,
    NAMED_AudioVolumeUp,
    NAMED_AudioVolumeDown,
    NAMED_KanaMode,
    NAMED_Convert,
    NAMED_NonConvert,
    NAMED_HangulMode,
    NAMED_HanjaMode,
    NAMED_Katakana,
    NAMED_Hiragana,
    NAMED_ZenkakuHankaku,
    NAMED_Control,
    NAMED_Shift,
    NAMED_Alt,
    NAMED_Meta,
    NAMED_Unidentified,
    NAMED_Dead,
    NAMED_Process,
    NAMED_AltGraph,
    NAMED_Clear,
    NAMED_COUNT
};

static const struct key_row {
    uint16_t usage;
    uint8_t location;
    const char *code;
    uint32_t key;
} key_rows[] = {
    {0x04, 0, "KeyA", 'a'},
    {0x05, 0, "KeyB", 'b'},
    {0x06, 0, "KeyC", 'c'},
    {0x07, 0, "KeyD", 'd'},
    {0x08, 0, "KeyE", 'e'},
    {0x09, 0, "KeyF", 'f'},
    {0x0a, 0, "KeyG", 'g'},
    {0x0b, 0, "KeyH", 'h'},
    {0x0c, 0, "KeyI", 'i'},
    {0x0d, 0, "KeyJ", 'j'},
    {0x0e, 0, "KeyK", 'k'},
    {0x0f, 0, "KeyL", 'l'},
    {0x10, 0, "KeyM", 'm'},
    {0x11, 0, "KeyN", 'n'},
    {0x12, 0, "KeyO", 'o'},
    {0x13, 0, "KeyP", 'p'},
    {0x14, 0, "KeyQ", 'q'},
    {0x15, 0, "KeyR", 'r'},
    {0x16, 0, "KeyS", 's'},
    {0x17, 0, "KeyT", 't'},
    {0x18, 0, "KeyU", 'u'},
    {0x19, 0, "KeyV", 'v'},
    {0x1a, 0, "KeyW", 'w'},
    {0x1b, 0, "KeyX", 'x'},
    {0x1c, 0, "KeyY", 'y'},
    {0x1d, 0, "KeyZ", 'z'},
    {0x1e, 0, "Digit1", '1'},
    {0x1f, 0, "Digit2", '2'},
    {0x20, 0, "Digit3", '3'},
    {0x21, 0, "Digit4", '4'},
    {0x22, 0, "Digit5", '5'},
    {0x23, 0, "Digit6", '6'},
    {0x24, 0, "Digit7", '7'},
    {0x25, 0, "Digit8", '8'},
    {0x26, 0, "Digit9", '9'},
    {0x27, 0, "Digit0", '0'},
    {0x28, 0, "Enter", IKV_KEY_NAMED + NAMED_Enter},
    {0x29, 0, "Escape", IKV_KEY_NAMED + NAMED_Escape},
    {0x2a, 0, "Backspace", IKV_KEY_NAMED + NAMED_Backspace},
    {0x2b, 0, "Tab", IKV_KEY_NAMED + NAMED_Tab},
    {0x2c, 0, "Space", ' '},
    {0x2d, 0, "Minus", '-'},
    {0x2e, 0, "Equal", '='},
    {0x2f, 0, "BracketLeft", '['},
    {0x30, 0, "BracketRight", ']'},
    {0x31, 0, "Backslash", '\\'},
    {0x33, 0, "Semicolon", ';'},
    {0x34, 0, "Quote", '\''},
    {0x35, 0, "Backquote", '`'},
    {0x36, 0, "Comma", ','},
    {0x37, 0, "Period", '.'},
    {0x38, 0, "Slash", '/'},
    {0x39, 0, "CapsLock", IKV_KEY_NAMED + NAMED_CapsLock},
    {0x3a, 0, "F1", IKV_KEY_NAMED + NAMED_F1},
    {0x3b, 0, "F2", IKV_KEY_NAMED + NAMED_F2},
    {0x3c, 0, "F3", IKV_KEY_NAMED + NAMED_F3},
    {0x3d, 0, "F4", IKV_KEY_NAMED + NAMED_F4},
    {0x3e, 0, "F5", IKV_KEY_NAMED + NAMED_F5},
    {0x3f, 0, "F6", IKV_KEY_NAMED + NAMED_F6},
    {0x40, 0, "F7", IKV_KEY_NAMED + NAMED_F7},
    {0x41, 0, "F8", IKV_KEY_NAMED + NAMED_F8},
    {0x42, 0, "F9", IKV_KEY_NAMED + NAMED_F9},
    {0x43, 0, "F10", IKV_KEY_NAMED + NAMED_F10},
    {0x44, 0, "F11", IKV_KEY_NAMED + NAMED_F11},
    {0x45, 0, "F12", IKV_KEY_NAMED + NAMED_F12},
    {0x46, 0, "PrintScreen", IKV_KEY_NAMED + NAMED_PrintScreen},
    {0x47, 0, "ScrollLock", IKV_KEY_NAMED + NAMED_ScrollLock},
    {0x48, 0, "Pause", IKV_KEY_NAMED + NAMED_Pause},
    {0x49, 0, "Insert", IKV_KEY_NAMED + NAMED_Insert},
    {0x4a, 0, "Home", IKV_KEY_NAMED + NAMED_Home},
    {0x4b, 0, "PageUp", IKV_KEY_NAMED + NAMED_PageUp},
    {0x4c, 0, "Delete", IKV_KEY_NAMED + NAMED_Delete},
    {0x4d, 0, "End", IKV_KEY_NAMED + NAMED_End},
    {0x4e, 0, "PageDown", IKV_KEY_NAMED + NAMED_PageDown},
    {0x4f, 0, "ArrowRight", IKV_KEY_NAMED + NAMED_ArrowRight},
    {0x50, 0, "ArrowLeft", IKV_KEY_NAMED + NAMED_ArrowLeft},
    {0x51, 0, "ArrowDown", IKV_KEY_NAMED + NAMED_ArrowDown},
    {0x52, 0, "ArrowUp", IKV_KEY_NAMED + NAMED_ArrowUp},
    {0x53, 3, "NumLock", IKV_KEY_NAMED + NAMED_NumLock},
    {0x54, 3, "NumpadDivide", '/'},
    {0x55, 3, "NumpadMultiply", '*'},
    {0x56, 3, "NumpadSubtract", '-'},
    {0x57, 3, "NumpadAdd", '+'},
    {0x58, 3, "NumpadEnter", IKV_KEY_NAMED + NAMED_Enter},
    {0x59, 3, "Numpad1", '1'},
    {0x5a, 3, "Numpad2", '2'},
    {0x5b, 3, "Numpad3", '3'},
    {0x5c, 3, "Numpad4", '4'},
    {0x5d, 3, "Numpad5", '5'},
    {0x5e, 3, "Numpad6", '6'},
    {0x5f, 3, "Numpad7", '7'},
    {0x60, 3, "Numpad8", '8'},
    {0x61, 3, "Numpad9", '9'},
    {0x62, 3, "Numpad0", '0'},
    {0x63, 3, "NumpadDecimal", '.'},
    {0x64, 0, "IntlBackslash", '\\'},
    {0x65, 0, "ContextMenu", IKV_KEY_NAMED + NAMED_ContextMenu},
    {0x66, 0, "Power", IKV_KEY_NAMED + NAMED_Power},
    {0x67, 3, "NumpadEqual", '='},
    {0x68, 0, "F13", IKV_KEY_NAMED + NAMED_F13},
    {0x69, 0, "F14", IKV_KEY_NAMED + NAMED_F14},
    {0x6a, 0, "F15", IKV_KEY_NAMED + NAMED_F15},
    {0x6b, 0, "F16", IKV_KEY_NAMED + NAMED_F16},
    {0x6c, 0, "F17", IKV_KEY_NAMED + NAMED_F17},
    {0x6d, 0, "F18", IKV_KEY_NAMED + NAMED_F18},
    {0x6e, 0, "F19", IKV_KEY_NAMED + NAMED_F19},
    {0x6f, 0, "F20", IKV_KEY_NAMED + NAMED_F20},
    {0x70, 0, "F21", IKV_KEY_NAMED + NAMED_F21},
    {0x71, 0, "F22", IKV_KEY_NAMED + NAMED_F22},
    {0x72, 0, "F23", IKV_KEY_NAMED + NAMED_F23},
    {0x73, 0, "F24", IKV_KEY_NAMED + NAMED_F24},
    {0x74, 0, "Open", IKV_KEY_NAMED + NAMED_Open},
    {0x75, 0, "Help", IKV_KEY_NAMED + NAMED_Help},
    {0x77, 0, "Select", IKV_KEY_NAMED + NAMED_Select},
    {0x79, 0, "Again", IKV_KEY_NAMED + NAMED_Again},
    {0x7a, 0, "Undo", IKV_KEY_NAMED + NAMED_Undo},
    {0x7b, 0, "Cut", IKV_KEY_NAMED + NAMED_Cut},
    {0x7c, 0, "Copy", IKV_KEY_NAMED + NAMED_Copy},
    {0x7d, 0, "Paste", IKV_KEY_NAMED + NAMED_Paste},
    {0x7e, 0, "Find", IKV_KEY_NAMED + NAMED_Find},
    {0x7f, 0, "AudioVolumeMute", IKV_KEY_NAMED + NAMED_AudioVolumeMute},
    {0x80, 0, "AudioVolumeUp", IKV_KEY_NAMED + NAMED_AudioVolumeUp},
    {0x81, 0, "AudioVolumeDown", IKV_KEY_NAMED + NAMED_AudioVolumeDown},
    {0x85, 3, "NumpadComma", ','},
    {0x87, 0, "IntlRo", '\\'},
    {0x88, 0, "KanaMode", IKV_KEY_NAMED + NAMED_KanaMode},
    {0x89, 0, "IntlYen", '\\'},
    {0x8a, 0, "Convert", IKV_KEY_NAMED + NAMED_Convert},
    {0x8b, 0, "NonConvert", IKV_KEY_NAMED + NAMED_NonConvert},
    {0x90, 0, "Lang1", IKV_KEY_NAMED + NAMED_HangulMode},
    {0x91, 0, "Lang2", IKV_KEY_NAMED + NAMED_HanjaMode},
    {0x92, 0, "Lang3", IKV_KEY_NAMED + NAMED_Katakana},
    {0x93, 0, "Lang4", IKV_KEY_NAMED + NAMED_Hiragana},
    {0x94, 0, "Lang5", IKV_KEY_NAMED + NAMED_ZenkakuHankaku},
    {0xb6, 3, "NumpadParenLeft", '('},
    {0xb7, 3, "NumpadParenRight", ')'},
    {0xe0, 1, "ControlLeft", IKV_KEY_NAMED + NAMED_Control},
    {0xe1, 1, "ShiftLeft", IKV_KEY_NAMED + NAMED_Shift},
    {0xe2, 1, "AltLeft", IKV_KEY_NAMED + NAMED_Alt},
    {0xe3, 1, "MetaLeft", IKV_KEY_NAMED + NAMED_Meta},
    {0xe4, 2, "ControlRight", IKV_KEY_NAMED + NAMED_Control},
    {0xe5, 2, "ShiftRight", IKV_KEY_NAMED + NAMED_Shift},
    {0xe6, 2, "AltRight", IKV_KEY_NAMED + NAMED_Alt},
    {0xe7, 2, "MetaRight", IKV_KEY_NAMED + NAMED_Meta},
};

enum {
    KEY_ROWS = sizeof key_rows / sizeof key_rows[0]
};

static const struct key_row *key_row(uint32_t code)
{
    for (size_t i = 0; i < KEY_ROWS; i++)
        if (IKV_CODE(key_rows[i].usage) == code)
            return &key_rows[i];
    return NULL;
}

const char *ikv_code_name(uint32_t code)
{
    const struct key_row *row = key_row(code);
    return row != NULL ? row->code : NULL;
}

uint32_t ikv_code_find(const char *name)
{
    for (size_t i = 0; name != NULL && i < KEY_ROWS; i++)
        if (ikvi_same(key_rows[i].code, name))
            return IKV_CODE(key_rows[i].usage);
    return 0;
}

uint32_t ikv_code_list(uint32_t index)
{
    return index < KEY_ROWS ? IKV_CODE(key_rows[index].usage) : 0;
}

uint32_t ikv_key_of_code(uint32_t code)
{
    const struct key_row *row = key_row(code);
    return row != NULL ? row->key : 0;
}

uint8_t ikv_code_location(uint32_t code)
{
    const struct key_row *row = key_row(code);
    return row != NULL ? row->location : 0;
}

/* ---------------------------------------------------- characters, UTF-8 -- */

static bool is_character(uint32_t point)
{
    return point > 0 && point < 0x110000 && (point < 0xd800 || point > 0xdfff);
}

const char *ikv_key_name(uint32_t key, char *buffer)
{
    if (key >= IKV_KEY_NAMED)
        return key - IKV_KEY_NAMED < NAMED_COUNT
                   ? named_keys[key - IKV_KEY_NAMED]
                   : NULL;
    if (!is_character(key) || buffer == NULL)
        return NULL;
    /* How many bytes follow the first one. */
    int more = (key >= 0x80) + (key >= 0x800) + (key >= 0x10000);
    static const uint8_t lead[] = {0, 0xc0, 0xe0, 0xf0};
    buffer[0] = (char)(lead[more] | key >> (6 * more));
    for (int i = 1; i <= more; i++)
        buffer[i] = (char)(0x80 | (key >> (6 * (more - i)) & 0x3f));
    buffer[more + 1] = '\0';
    return buffer;
}

/* The one code point that the string holds, 0 if it holds none or several. */
static uint32_t only_character(const char *name)
{
    const uint8_t *bytes = (const uint8_t *)name;
    int more = (bytes[0] >= 0x80) + (bytes[0] >= 0xe0) + (bytes[0] >= 0xf0);
    static const uint8_t mask[] = {0x7f, 0x1f, 0x0f, 0x07};
    uint32_t point = bytes[0] & mask[more];
    for (int i = 1; i <= more; i++) {
        if ((bytes[i] & 0xc0) != 0x80)
            return 0;
        point = point << 6 | (bytes[i] & 0x3f);
    }
    /* A form that is longer than it must be is not looked for: names come from
     * people. */
    return bytes[more + 1] == '\0' && is_character(point) ? point : 0;
}

uint32_t ikv_key_find(const char *name)
{
    if (name == NULL || name[0] == '\0')
        return 0;
    uint32_t point = only_character(name);
    if (point != 0)
        return point;
    for (uint32_t i = 0; i < NAMED_COUNT; i++)
        if (ikvi_same(named_keys[i], name))
            return IKV_KEY_NAMED + i;
    return 0;
}
