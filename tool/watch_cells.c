/* watch_cells.c - a grid of characters. */
#include "watch.h"

#include <stdarg.h>
#include <stdlib.h>
#include <string.h>

void cells_clear(cells *grid, int columns, int rows)
{
    grid->columns = columns < MOST_COLUMNS ? columns : MOST_COLUMNS;
    grid->rows = rows < MOST_ROWS ? rows : MOST_ROWS;
    for (int row = 0; row < grid->rows; row++)
        for (int column = 0; column < grid->columns; column++)
            grid->at[row][column] = (cell){' ', INK_TEXT};
}

void panel_put(const panel *p, int column, int row, uint32_t character,
               uint8_t ink)
{
    if (column < 0 || row < 0 || column >= p->columns || row >= p->rows ||
        p->column + column >= p->grid->columns || p->row + row >= p->grid->rows)
        return;
    p->grid->at[p->row + row][p->column + column] = (cell){character, ink};
}

/* The next character of UTF-8; 0 at the end. */
static uint32_t next_character(const char **text)
{
    const unsigned char *at = (const unsigned char *)*text;
    if (*at == 0)
        return 0;
    int more = *at >= 0xf0 ? 3 : *at >= 0xe0 ? 2 : *at >= 0xc0 ? 1 : 0;
    uint32_t character = more == 0 ? *at : *at & (0x3fu >> more);
    at++;
    for (; more > 0 && (*at & 0xc0) == 0x80; more--)
        character = character << 6 | (*at++ & 0x3fu);
    *text = (const char *)at;
    return character;
}

int panel_text(const panel *p, int column, int row, uint8_t ink,
               const char *format, ...)
{
    char text[1024], shown[2048];
    va_list list;
    va_start(list, format);
    vsnprintf(text, sizeof text, format, list);
    va_end(list);
    const char *at = ikv_shown_text(text, shown, sizeof shown);
    uint32_t character;
    while ((character = next_character(&at)) != 0 && column < p->columns)
        panel_put(p, column++, row, character, ink);
    if (character != 0)
        panel_put(p, p->columns - 1, row, '~', ink);
    return column;
}

int panel_lines(const panel *p, int row, uint8_t ink, const char *text)
{
    while (*text != '\0') {
        int length = (int)strcspn(text, "\n"), used = length;
        if (length > p->columns) {
            used = p->columns;
            while (used > p->columns / 2 && text[used] != ' ')
                used--;
        }
        panel_text(p, 0, row++, ink, "%.*s", used, text);
        text += used + (text[used] == ' ' || text[used] == '\n');
    }
    return row;
}

void panel_line(const panel *p, float x, float y, float x2, float y2,
                uint32_t character, uint8_t ink)
{
    float dx = x2 - x, dy = y2 - y;
    float far = dx < 0 ? -dx : dx;
    far = (dy < 0 ? -dy : dy) > far ? (dy < 0 ? -dy : dy) : far;
    /* what is much longer than the panel is cut, not walked along */
    int steps = far < 4 * (MOST_COLUMNS + MOST_ROWS)
                    ? (int)far + 1
                    : 4 * (MOST_COLUMNS + MOST_ROWS);
    for (int i = 0; i <= steps; i++) {
        float at_x = x + dx * (float)i / (float)steps;
        float at_y = y + dy * (float)i / (float)steps;
        if (at_x >= 0 && at_y >= 0 && at_x < MOST_COLUMNS && at_y < MOST_ROWS)
            panel_put(p, (int)at_x, (int)at_y, character, ink);
    }
}

static void put_utf8(FILE *file, uint32_t c)
{
    if (c < 0x80) {
        fputc((int)c, file);
    } else if (c < 0x800) {
        fputc((int)(0xc0 | c >> 6), file);
        fputc((int)(0x80 | (c & 0x3f)), file);
    } else if (c < 0x10000) {
        fputc((int)(0xe0 | c >> 12), file);
        fputc((int)(0x80 | (c >> 6 & 0x3f)), file);
        fputc((int)(0x80 | (c & 0x3f)), file);
    } else {
        fputc((int)(0xf0 | c >> 18), file);
        fputc((int)(0x80 | (c >> 12 & 0x3f)), file);
        fputc((int)(0x80 | (c >> 6 & 0x3f)), file);
        fputc((int)(0x80 | (c & 0x3f)), file);
    }
}

void cells_print(const cells *grid, FILE *file)
{
    for (int row = 0; row < grid->rows; row++) {
        int end = grid->columns;
        while (end > 0 && grid->at[row][end - 1].character == ' ')
            end--;
        for (int column = 0; column < end; column++)
            put_utf8(file, grid->at[row][column].character);
        fputc('\n', file);
    }
}
