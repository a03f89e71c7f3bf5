/* watch_curses.c - puts cells onto the terminal. ncurses works out what has to be
 * written for that, into memory: the terminal itself, its modes and its input are
 * the port's. The only file that knows ncurses. */
#define _GNU_SOURCE
#define _XOPEN_SOURCE_EXTENDED
#include "watch.h"

#include <curses.h>
#include <errno.h>
#include <fcntl.h>
#include <locale.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <unistd.h>

static SCREEN *screen;
static FILE *made, *nowhere; /* what ncurses writes to, and reads from */
static int memory = -1, terminal = -1;

/* ---------------------------------------------------------------- colours -- */

static int cube(unsigned part)
{
    return part < 48 ? 0 : part < 115 ? 1 : ((int)part - 35) / 40;
}

/* The nearest of the terminal's: of 256, or of eight. */
static short colour_of(uint32_t rgba)
{
    unsigned r = rgba >> 24, g = rgba >> 16 & 0xff, b = rgba >> 8 & 0xff;
    if (COLORS >= 256)
        return (short)(16 + 36 * cube(r) + 6 * cube(g) + cube(b));
    return (short)((r > 127 ? COLOR_RED : 0) | (g > 127 ? COLOR_GREEN : 0) |
                   (b > 127 ? COLOR_BLUE : 0));
}

static void make_colours(void)
{
    const ikv_draw_style *style = ikv_draw_dark();
    if (!has_colors())
        return;
    start_color();
    for (int ink = 0; ink < INK_COUNT; ink++) {
        uint32_t rgba = ink < IKV_DRAW_COUNT ? style->inks[ink].line
                        : ink == INK_QUIET   ? style->inks[IKV_DRAW_OFF].line
                        : ink == INK_WARN ? style->inks[IKV_DRAW_POINTER].line
                                          : style->inks[IKV_DRAW_NAME].line;
        init_pair((short)(ink + 1), colour_of(rgba), COLOR_BLACK);
    }
}

/* ----------------------------------------------------------------- screen -- */

static bool fail(const char *why)
{
    fprintf(stderr, "ikvar watch: %s\n", why);
    screen_close();
    return false;
}

bool screen_open(void)
{
    terminal = open("/dev/tty", O_WRONLY | O_NOCTTY | O_CLOEXEC);
    memory = memfd_create("screen", MFD_CLOEXEC);
    made = memory >= 0 ? fdopen(memory, "w") : NULL;
    nowhere = fopen("/dev/null", "r");
    if (terminal < 0 || made == NULL || nowhere == NULL)
        return fail(strerror(errno));
    /* names may have any letters; numbers stay as they are */
    if (setlocale(LC_CTYPE, "C.UTF-8") == NULL)
        setlocale(LC_CTYPE, "");
    use_env(FALSE);
    screen = newterm(NULL, made, nowhere);
    if (screen == NULL)
        return fail("TERM names no terminal that can be drawn on");
    set_term(screen);
    typeahead(-1);
    make_colours();
    return true;
}

void screen_size(int *columns, int *rows)
{
    struct winsize size;
    if (ioctl(terminal, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 &&
        size.ws_row > 0) {
        *columns = size.ws_col;
        *rows = size.ws_row;
    }
}

static void write_all(const char *text, size_t length)
{
    while (length > 0) {
        ssize_t done = write(terminal, text, length);
        if (done < 0 && errno != EINTR)
            return; /* it is gone: the port finds out */
        if (done > 0) {
            text += done;
            length -= (size_t)done;
        }
    }
}

/* What ncurses has written so far goes to the terminal. */
static void send_made(void)
{
    char buffer[16384];
    fflush(made);
    off_t end = lseek(memory, 0, SEEK_CUR);
    for (off_t at = 0; at < end;) {
        ssize_t count = pread(memory, buffer, sizeof buffer, at);
        if (count <= 0)
            break;
        if (count > end - at)
            count = end - at;
        write_all(buffer, (size_t)count);
        at += count;
    }
    lseek(memory, 0, SEEK_SET);
}

static void put_cell(int row, int column, const cell *c)
{
    wchar_t text[2] = {(wchar_t)c->character, L'\0'};
    cchar_t made_of;
    attr_t how = c->ink == INK_TITLE                             ? A_REVERSE
                 : c->ink == IKV_DRAW_NAME || c->ink == INK_WARN ? A_BOLD
                                                                 : A_NORMAL;
    short pair = has_colors() ? (short)(c->ink + 1) : 0;
    if (wcwidth(text[0]) != 1)
        text[0] = L'?'; /* of another width, or none */
    setcchar(&made_of, text, how, pair, NULL);
    mvadd_wch(row, column, &made_of);
}

void screen_show(const cells *grid, bool anew)
{
    if (getmaxy(stdscr) != grid->rows || getmaxx(stdscr) != grid->columns)
        resizeterm(grid->rows, grid->columns);
    if (anew)
        clearok(curscr, TRUE);
    for (int row = 0; row < grid->rows; row++)
        for (int column = 0; column < grid->columns; column++)
            put_cell(row, column, &grid->at[row][column]);
    refresh();
    send_made();
}

void screen_close(void)
{
    if (screen != NULL) {
        endwin();
        send_made();
        delscreen(screen);
    }
    if (made != NULL)
        fclose(made);
    if (nowhere != NULL)
        fclose(nowhere);
    if (terminal >= 0)
        close(terminal);
    screen = NULL;
    made = nowhere = NULL;
    memory = terminal = -1;
}
