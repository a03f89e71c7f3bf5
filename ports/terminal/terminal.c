/* terminal.c - the controlling terminal's own keys and mouse.
 *
 * The terminal is put into a raw mode with mouse reports, and back as it was
 * at closing, before a stop, and when the program is killed or crashes. Signal
 * handlers are of the whole process, so there can be one such port at a time;
 * what they touch is `active`, and only through calls that are safe in them.
 */
#define _GNU_SOURCE
#include "parse.h"

#include "ikvar/keys.h"
#include "ikvar/ports.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/eventfd.h>
#include <sys/ioctl.h>
#include <termios.h>
#include <time.h>
#include <unistd.h>

enum {
    HELD_KEYS = 32,
    WAITING = HELD_KEYS + 16 /* more than one byte can become */
};

/* A key that counts as held until its time has come: terminals send no
 * releases. */
typedef struct held_key {
    uint32_t code, key;
    uint16_t modifiers;
    uint64_t until_ns;
} held_key;

typedef struct terminal {
    ikv_terminal_config config;
    ikv_sink *sink;
    uint16_t keyboard, mouse;
    int fd;
    int woken;   /* written to by wake() */
    bool opened; /* we opened fd */
    bool hung_up;
    struct termios before, raw;
    parser parser;
    uint64_t last_byte_ns;
    uint8_t buttons;
    float x, y;
    uint16_t columns, rows;
    held_key held[HELD_KEYS];
    uint32_t held_count;
    uint8_t bytes[256]; /* read, but not yet taken from `at` to `end` */
    uint32_t at, end;
    ikv_event waiting[WAITING]; /* what the queue had no room for */
    uint32_t waiting_count;
} terminal;

/* what signal handlers see: read there whole, or not at all */
static terminal *volatile active;
static volatile sig_atomic_t asked_to_end, resized, is_raw;

/* in order: any motion of the mouse, its numbers in decimal, focus, pastes
 * marked, keys that would be ambiguous as codes; and no cursor */
static const char enter_modes[] =
    "\033[?1003h\033[?1006h\033[?1004h\033[?2004h\033[>1u\033[?25l";
static const char leave_modes[] =
    "\033[<u\033[?2004l\033[?1004l\033[?1006l\033[?1003l\033[?25h";
/* the other screen, and no colours on the way back */
static const char enter_screen[] = "\033[?1049h",
                  leave_screen[] = "\033[0m\033[?1049l";

/* ----------------------------------------------------------- the device -- */

static void write_modes(int fd, const char *text, size_t length)
{
    while (length > 0) {
        ssize_t done = write(fd, text, length);
        /* a terminal that is gone can't be put back */
        if (done < 0 && errno != EINTR)
            return;
        if (done > 0) {
            text += done;
            length -= (size_t)done;
        }
    }
}

static void set_raw(const terminal *t)
{
    if (is_raw)
        return;
    /* first: a signal in between puts back what is half done */
    is_raw = 1;
    tcsetattr(t->fd, TCSANOW, &t->raw);
    if (t->config.whole_screen)
        write_modes(t->fd, enter_screen, sizeof enter_screen - 1);
    write_modes(t->fd, enter_modes, sizeof enter_modes - 1);
}

/* Safe in signal handlers: write() and tcsetattr() only. */
static void set_back(const terminal *t)
{
    if (!is_raw)
        return;
    /* first: who is killed while it does this does not do it twice */
    is_raw = 0;
    if (t->config.whole_screen)
        write_modes(t->fd, leave_screen, sizeof leave_screen - 1);
    write_modes(t->fd, leave_modes, sizeof leave_modes - 1);
    tcsetattr(t->fd, TCSANOW, &t->before);
}

/* -------------------------------------------------------------- signals -- */

static const int crash_signals[] = {SIGSEGV, SIGBUS,  SIGILL, SIGFPE,
                                    SIGABRT, SIGQUIT, SIGPIPE};
static const int other_signals[] = {SIGINT,  SIGTERM, SIGHUP,
                                    SIGTSTP, SIGCONT, SIGWINCH};
enum {
    CRASHES = sizeof crash_signals / sizeof crash_signals[0],
    OTHERS = sizeof other_signals / sizeof other_signals[0]
};
static struct sigaction old_actions[CRASHES + OTHERS];

/* Dies of the signal as if there had been no handler. */
static void die_of(int number)
{
    signal(number, SIG_DFL);
    sigset_t set;
    sigemptyset(&set);
    sigaddset(&set, number);
    /* blocked while its handler runs, so it comes when that is undone */
    raise(number);
    sigprocmask(SIG_UNBLOCK, &set, NULL);
}

static void on_crash(int number)
{
    /* before anything else: the next thing may be the end */
    if (active != NULL)
        set_back(active);
    die_of(number);
}

static void on_other(int number);

static void install(int number, void (*handler)(int), struct sigaction *old)
{
    struct sigaction action;
    /* the structure has members that not every system names */
    memset(&action, 0, sizeof action);
    action.sa_handler = handler;
    sigemptyset(&action.sa_mask);
    action.sa_flags = SA_RESTART; /* so that no write of the host's fails */
    sigaction(number, &action, old);
}

/* What waits looks at what the signal has left: one that came just before it
 * began to wait, too. Safe in signal handlers: write() only. */
static void wake(const terminal *t)
{
    uint64_t once = 1;
    if (t == NULL || write(t->woken, &once, sizeof once) < 0)
        return; /* it is full: woken already */
}

/* The first request to end is passed on; the second one is obeyed. */
static void on_other(int number)
{
    /* what it interrupts may be about to look at it */
    int error = errno;
    switch (number) {
    case SIGWINCH:
        resized = 1;
        wake(active);
        break;
    case SIGTSTP:
        if (active != NULL)
            set_back(active);
        die_of(SIGTSTP); /* stops here until it is continued */
        install(SIGTSTP, on_other, NULL);
        if (active != NULL) /* whom nobody can continue does not stop */
            set_raw(active);
        break;
    case SIGCONT:
        if (active != NULL)
            set_raw(active);
        resized = 1;
        wake(active);
        break;
    default:
        /* a program that hangs must not hold its terminal */
        if (asked_to_end) {
            if (active != NULL)
                set_back(active);
            die_of(number);
        }
        asked_to_end = 1;
        wake(active);
        break;
    }
    errno = error;
}

static void install_all(void)
{
    for (int i = 0; i < CRASHES; i++)
        install(crash_signals[i], on_crash, &old_actions[i]);
    const struct sigaction *pipe = &old_actions[CRASHES - 1];
    if (pipe->sa_handler == SIG_IGN) /* the program sees to it itself */
        sigaction(SIGPIPE, pipe, NULL);
    for (int i = 0; i < OTHERS; i++)
        install(other_signals[i], on_other, &old_actions[CRASHES + i]);
}

static void remove_all(void)
{
    for (int i = 0; i < CRASHES; i++)
        sigaction(crash_signals[i], &old_actions[i], NULL);
    for (int i = 0; i < OTHERS; i++)
        sigaction(other_signals[i], &old_actions[CRASHES + i], NULL);
}

/* --------------------------------------------------------------- events -- */

static uint64_t terminal_now(void *state)
{
    struct timespec now;
    (void)state;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (uint64_t)now.tv_sec * 1000000000 + (uint64_t)now.tv_nsec;
}

/* What the queue has no room for waits, in order; and while something waits,
 * no further byte is taken. So nothing is lost. */
static void push(terminal *t, const ikv_event *event)
{
    if (t->waiting_count == 0 && ikv_sink_has_room(t->sink, event->kind))
        ikv_sink_push(t->sink, event);
    /* always so: no byte is taken while something waits, and WAITING is more
     * than one becomes */
    else if (t->waiting_count < WAITING)
        t->waiting[t->waiting_count++] = *event;
}

/* Tries again; true if nothing waits any more. */
static bool push_waiting(terminal *t)
{
    uint32_t done = 0;
    while (done < t->waiting_count &&
           ikv_sink_has_room(t->sink, t->waiting[done].kind))
        ikv_sink_push(t->sink, &t->waiting[done++]);
    t->waiting_count -= done;
    /* what is left keeps its order */
    memmove(t->waiting, t->waiting + done,
            t->waiting_count * sizeof t->waiting[0]);
    return t->waiting_count == 0;
}

static void push_key(terminal *t, ikv_kind kind, const held_key *k,
                     uint64_t now, uint16_t flags)
{
    ikv_event event = ikv_event_make(kind, now);
    event.device = t->keyboard;
    event.modifiers = k->modifiers;
    event.flags = flags;
    event.key.code = k->code;
    event.key.key = k->key;
    event.key.location = ikv_code_location(k->code);
    push(t, &event);
}

static void release_key(terminal *t, uint32_t index, uint64_t now)
{
    held_key k = t->held[index];
    /* before it is pushed: held() must not tell of it any more */
    t->held[index] = t->held[--t->held_count];
    push_key(t, IKV_KIND_KEY_UP, &k, now, IKV_SYNTHETIC);
}

static void release_due(terminal *t, uint64_t now, bool all)
{
    /* from behind, since the last one takes a released one's place */
    for (uint32_t i = t->held_count; i-- > 0;)
        if (all || t->held[i].until_ns <= now)
            release_key(t, i, now);
}

static void push_text(terminal *t, uint32_t character, uint64_t now)
{
    char buffer[8];
    const char *text = ikv_key_name(character, buffer);
    /* named keys, as Enter, are no text */
    if (text == NULL || character >= IKV_KEY_NAMED)
        return;
    ikv_event event = ikv_event_make(IKV_KIND_TEXT_INPUT, now);
    event.device = t->keyboard;
    event.flags = IKV_FIRST;
    event.text.length = (uint8_t)strlen(text);
    memcpy(event.text.bytes, text, event.text.length);
    push(t, &event);
}

static void take_key(terminal *t, const token *k, uint64_t now)
{
    /* pasted text is text, not keys that somebody pressed */
    if (!k->pasted && (k->code != 0 || k->character != 0)) {
        held_key key = {.code = k->code,
                        .key = k->character != 0 ? k->character
                                                 : ikv_key_of_code(k->code),
                        .modifiers = k->modifiers,
                        .until_ns = now + t->config.hold_ns};
        uint32_t i = 0;
        while (i < t->held_count &&
               (t->held[i].code != key.code || t->held[i].key != key.key))
            i++;
        /* more than anybody holds: the last one gives way */
        if (i == HELD_KEYS)
            release_key(t, --i, now);
        /* what comes while it counts as held is the terminal's own repeat */
        bool repeat = i < t->held_count;
        t->held[i] = key;
        t->held_count += !repeat;
        push_key(t, IKV_KIND_KEY_DOWN, &key, now, repeat ? IKV_REPEAT : 0);
    }
    /* control characters are keys alone */
    if (k->character >= 0x20 && k->character != 0x7f)
        push_text(t, k->character, now);
}

/* Columns and rows to view units: the middle of the cell. */
static void place_mouse(terminal *t, const token *m)
{
    float columns = (float)t->columns, rows = (float)t->rows;
    float width = t->config.view_width > 0 ? t->config.view_width : columns;
    float height = t->config.view_height > 0 ? t->config.view_height : rows;
    t->x = ((float)m->column - 0.5f) * width / columns;
    t->y = ((float)m->row - 0.5f) * height / rows;
}

static void take_wheel(terminal *t, const token *m, uint64_t now)
{
    static const float steps[4][2] = {{0, -1}, {0, 1}, {-1, 0}, {1, 0}};
    ikv_event event = ikv_event_make(IKV_KIND_WHEEL, now);
    event.device = t->mouse;
    event.modifiers = m->modifiers;
    event.wheel.x = t->x;
    event.wheel.y = t->y;
    /* the low two bits say which way, not which button */
    event.wheel.dx = steps[m->button & 3][0];
    event.wheel.dy = steps[m->button & 3][1];
    event.wheel.mode = IKV_WHEEL_LINES;
    event.wheel.type = IKV_MOUSE;
    push(t, &event);
}

/* Bits of the report: 0 to 1 the button (3 none), 32 motion, 64 the wheel,
 * 128 further buttons. */
static void take_mouse(terminal *t, const token *m, uint64_t now)
{
    place_mouse(t, m);
    if (m->button & 64) {
        take_wheel(t, m, now);
        return;
    }
    /* 0, 1, 2 are main, middle, secondary as they come; 128 starts at the
     * fourth */
    int8_t button = (int8_t)((m->button & 3) + (m->button & 128 ? 3 : 0));
    /* terminals differ in whether motion without a button has its bit */
    bool moved = (m->button & 32) != 0 || (button == 3 && !(m->button & 128));
    uint8_t bit = (uint8_t)(1u << (button & 7));
    if (!moved && (((t->buttons & bit) != 0) == m->pressed))
        return; /* reported twice */
    ikv_event event = ikv_event_make(moved        ? IKV_KIND_POINTER_MOVE
                                     : m->pressed ? IKV_KIND_POINTER_DOWN
                                                  : IKV_KIND_POINTER_UP,
                                     now);
    event.device = t->mouse;
    event.modifiers = m->modifiers;
    event.pointer.x = t->x;
    event.pointer.y = t->y;
    event.pointer.type = IKV_MOUSE;
    if (!moved) {
        /* the port's own note: for reports that come twice, and for held() */
        t->buttons =
            (uint8_t)(m->pressed ? t->buttons | bit : t->buttons & ~bit);
        event.pointer.button = button;
    }
    push(t, &event);
}

static void take_focus(terminal *t, bool got, uint64_t now)
{
    /* what is held when it goes is not ours to see released; a button that is
     * released elsewhere would make its next press one that comes twice */
    if (!got) {
        release_due(t, now, true);
        t->buttons = 0;
    }
    ikv_event event =
        ikv_event_make(got ? IKV_KIND_WINDOW_FOCUS : IKV_KIND_WINDOW_BLUR, now);
    event.device = t->keyboard;
    push(t, &event);
}

static void take_token(terminal *t, token k, uint64_t now)
{
    if (k.type == TOKEN_KEY)
        take_key(t, &k, now);
    else if (k.type == TOKEN_MOUSE)
        take_mouse(t, &k, now);
    else if (k.type == TOKEN_FOCUS)
        take_focus(t, k.pressed, now);
}

static void push_window(terminal *t, ikv_kind kind, uint64_t now)
{
    ikv_event event = ikv_event_make(kind, now);
    event.device = t->keyboard;
    event.window.width =
        t->config.view_width > 0 ? t->config.view_width : (float)t->columns;
    event.window.height =
        t->config.view_height > 0 ? t->config.view_height : (float)t->rows;
    event.window.density = 1;
    push(t, &event);
}

static void measure(terminal *t)
{
    struct winsize size;
    /* what terminals have had since they were made of glass */
    t->columns = 80;
    t->rows = 24;
    if (ioctl(t->fd, TIOCGWINSZ, &size) == 0 && size.ws_col > 0 &&
        size.ws_row > 0) {
        t->columns = size.ws_col;
        t->rows = size.ws_row;
    }
}

/* ------------------------------------------------------------- the port -- */

static void take_tokens(terminal *t, token first, uint64_t now)
{
    take_token(t, first, now);
    /* of bytes that turned out to be keys after all */
    while (ikvi_parser_has_more(&t->parser))
        take_token(t, ikvi_parser_more(&t->parser), now);
}

static void take_byte(terminal *t, uint8_t byte)
{
    take_tokens(t, ikvi_parser_take(&t->parser, byte), t->last_byte_ns);
}

static void expire(terminal *t, uint64_t now)
{
    take_tokens(t, ikvi_parser_expire(&t->parser), now);
}

static void read_bytes(terminal *t)
{
    for (;;) {
        while (t->at < t->end && t->waiting_count == 0)
            take_byte(t, t->bytes[t->at++]);
        /* the queue is full: the rest waits where it is */
        if (t->at < t->end)
            return;
        ssize_t count = read(t->fd, t->bytes, sizeof t->bytes);
        /* the other end of a pseudo-terminal was closed */
        if (count < 0 && errno == EIO)
            t->hung_up = true;
        if (count == 0) { /* nothing has come, or nobody is there any more */
            struct pollfd fd = {.fd = t->fd, .events = POLLIN};
            if (poll(&fd, 1, 0) > 0 && (fd.revents & (POLLHUP | POLLERR)))
                t->hung_up = true;
        }
        if (count <= 0)
            return;
        /* the time of all of them: when they came is not told */
        t->last_byte_ns = terminal_now(t);
        t->at = 0;
        t->end = (uint32_t)count;
    }
}

static void take_signals(terminal *t, uint64_t now)
{
    /* cleared before it is measured: a change in between is seen next time */
    if (resized) {
        resized = 0;
        measure(t);
        push_window(t, IKV_KIND_WINDOW_RESIZE, now);
    }
    if (asked_to_end == 1) {
        /* told once; a second request sets it again, and is obeyed */
        asked_to_end = 2;
        push_window(t, IKV_KIND_WINDOW_CLOSE, now);
    }
}

static ikv_status terminal_poll(void *state)
{
    terminal *t = state;
    /* signals and releases wait behind it: order is kept */
    if (!push_waiting(t))
        return IKV_OK;
    read_bytes(t);
    uint64_t now = terminal_now(t);
    if (ikvi_parser_waits(&t->parser) &&
        now - t->last_byte_ns >= t->config.escape_ns)
        expire(t, now);
    release_due(t, now, false);
    take_signals(t, now);
    if (!t->hung_up)
        return IKV_OK;
    /* nothing stays down when nobody can release it */
    release_due(t, now, true);
    push_window(t, IKV_KIND_WINDOW_CLOSE, now);
    return IKV_ENDED;
}

/* Reads as soon as there is something, so that times are right. */
static ikv_status terminal_wait(void *state, uint64_t until_ns, bool for_input)
{
    terminal *t = state;
    /* What is made up after a time is input too. */
    if (for_input && (t->held_count > 0 || ikvi_parser_waits(&t->parser) ||
                      t->waiting_count > 0)) {
        uint64_t soon = terminal_now(t) + t->config.escape_ns / 4;
        until_ns = soon < until_ns ? soon : until_ns;
    }
    for (;;) {
        uint64_t now = terminal_now(t);
        if (now >= until_ns)
            return IKV_OK;
        uint64_t left = until_ns - now;
        struct timespec timeout = {(time_t)(left / 1000000000),
                                   (long)(left % 1000000000)};
        struct pollfd fds[2] = {{.fd = t->woken, .events = POLLIN},
                                {.fd = t->fd, .events = POLLIN}};
        /* what hung up is always ready: it is not looked at, or this would
         * spin */
        int ready = ppoll(fds, t->hung_up || t->waiting_count > 0 ? 1 : 2,
                          &timeout, NULL);
        if (ready > 0 && (fds[0].revents & POLLIN)) {
            /* how often it was woken does not matter */
            uint64_t times;
            if (read(t->woken, &times, sizeof times) > 0)
                return IKV_OK;
        }
        if (ready > 0) {
            read_bytes(t);
            if (for_input)
                return IKV_OK;
        }
    }
}

static void terminal_wake(void *state)
{
    wake(state);
}

static ikv_status terminal_start(void *state, ikv_sink *sink)
{
    terminal *t = state;
    t->sink = sink;
    t->keyboard = ikv_sink_device(sink);
    t->mouse = ikv_sink_device(sink);
    t->raw = t->before;
    /* keys as they are; output stays as it was, so that a host's lines end as
     * before */
    t->raw.c_iflag &= (tcflag_t) ~(IXON | ICRNL | INLCR | IGNCR | ISTRIP);
    t->raw.c_lflag &= (tcflag_t) ~(ECHO | ICANON | IEXTEN);
    /* read() returns at once with what there is */
    t->raw.c_cc[VMIN] = 0;
    t->raw.c_cc[VTIME] = 0;
    asked_to_end = 0;
    resized = 0;
    /* before the handlers are there that look at it */
    active = t;
    install_all();
    set_raw(t);
    measure(t);
    return IKV_OK;
}

static void terminal_stop(void *state)
{
    terminal *t = state;
    /* in reverse order */
    set_back(t);
    remove_all();
    active = NULL;
}

static size_t terminal_describe(void *state, uint16_t device, char *buffer,
                                size_t size)
{
    const terminal *t = state;
    const char *name = device == t->keyboard ? "terminal keys"
                       : device == t->mouse  ? "terminal mouse"
                                             : "";
    size_t length = strlen(name);
    /* as much as there is room for, and how long it is */
    if (size > 0) {
        size_t copied = length < size - 1 ? length : size - 1;
        memcpy(buffer, name, copied);
        buffer[copied] = '\0';
    }
    return length;
}

static ikv_status terminal_held(void *state, uint16_t device, ikv_event *events,
                                uint32_t room, uint32_t *count)
{
    const terminal *t = state;
    *count = 0;
    if (device != t->keyboard && device != t->mouse)
        return IKV_ABSENT;
    uint64_t now = terminal_now(state);
    for (uint32_t i = 0; device == t->keyboard && i < t->held_count; i++) {
        /* what there is no room for is not held, as the port sees it */
        if (*count == room)
            return IKV_OK;
        ikv_event *event = &events[(*count)++];
        *event = ikv_event_make(IKV_KIND_KEY_DOWN, now);
        event->device = device;
        event->key.code = t->held[i].code;
        event->key.key = t->held[i].key;
    }
    for (int8_t b = 0; device == t->mouse && b < 8 && *count < room; b++) {
        if ((t->buttons & 1u << b) == 0)
            continue;
        ikv_event *event = &events[(*count)++];
        *event = ikv_event_make(IKV_KIND_POINTER_DOWN, now);
        event->device = device;
        event->pointer.x = t->x;
        event->pointer.y = t->y;
        event->pointer.button = b;
    }
    return IKV_OK;
}

static ikv_status no_terminal(terminal *t, ikv_message *message,
                              const char *device)
{
    if (message != NULL) {
        int error = errno;
        size_t room = sizeof message->text;
        message->text[0] = '\0';
        strncat(message->text, device, room - 100);
        strncat(message->text, ": ", 3);
        strncat(message->text, strerror(error), 60);
        strncat(message->text, "; expected a terminal", 22);
    }
    if (t->woken >= 0)
        close(t->woken);
    if (t->opened)
        close(t->fd);
    free(t);
    return IKV_PORT_FAILED;
}

ikv_status ikv_terminal_open(const ikv_terminal_config *config, ikv_port *port,
                             ikv_message *message)
{
    if (config == NULL || port == NULL)
        return IKV_BAD_ARGUMENT;
    if (config->size != sizeof *config)
        return IKV_BAD_SIZE;
    /* handlers are of the process: a second one would put back the first one's
     * modes */
    if (active != NULL)
        return IKV_BUSY;
    terminal *t = calloc(1, sizeof *t);
    if (t == NULL)
        return IKV_NO_MEMORY;
    const char *device = config->device != NULL ? config->device : "/dev/tty";
    t->config = *config;
    if (t->config.hold_ns == 0)
        t->config.hold_ns = 120000000;
    if (t->config.escape_ns == 0)
        t->config.escape_ns = 50000000;
    t->fd = open(device, O_RDWR | O_NOCTTY | O_CLOEXEC);
    t->opened = t->fd >= 0;
    /* before the modes are changed: closing either undoes nothing */
    t->woken = eventfd(0, EFD_CLOEXEC | EFD_NONBLOCK);
    if (!t->opened || tcgetattr(t->fd, &t->before) != 0)
        return no_terminal(t, message, device);
    *port = (ikv_port){.size = sizeof *port,
                       .capabilities = IKV_PORT_CLOCK | IKV_PORT_WAITS,
                       .name = "terminal",
                       .state = t,
                       .open = terminal_start,
                       .poll = terminal_poll,
                       .wait = terminal_wait,
                       .wake = terminal_wake,
                       .now = terminal_now,
                       .held = terminal_held,
                       .describe = terminal_describe,
                       .close = terminal_stop};
    if (message != NULL)
        message->text[0] = '\0';
    return IKV_OK;
}

void ikv_terminal_close(ikv_port *port)
{
    if (port == NULL || port->state == NULL)
        return;
    terminal *t = port->state;
    if (t->opened)
        close(t->fd);
    close(t->woken);
    free(t);
    port->state = NULL;
}
