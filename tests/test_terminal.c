/* test_terminal.c - the terminal's bytes as events, and the port as a process
 * on a pseudo-terminal: split sequences, a lone escape, SIGTERM, SIGTSTP, a
 * crash; the settings are compared before and after. */
#define _GNU_SOURCE
#include "support.h"

#include "../ports/terminal/parse.h"

#include <errno.h>
#include <fcntl.h>
#include <poll.h>
#include <pty.h>
#include <utmp.h>
#include <signal.h>
#include <sys/ioctl.h>
#include <sys/wait.h>
#include <time.h>
#include <unistd.h>

/* ----------------------------------------------------------- the parser -- */

static const struct {
    const char *bytes;
    const char *tokens; /* E: what an expired wait gives */
} parse_table[] = {
    {"a", "KeyA'a' "},
    {"A", "KeyA'A'+1 "},
    {"?", "Slash'?'+1 "},
    {"\x01", "KeyA+2 "},
    {"\r", "Enter "},
    {"\t", "Tab "},
    {"\x7f", "Backspace "},
    {"\xc3\xa9", "?'e9' "},
    {"\xf0\x9f\x9a\xa2", "?'1f6a2' "},
    {"\xff", "unknown "},
    {"\xc3"
     "a",
     "KeyA'a' "},
    {"\033[A", "ArrowUp "},
    {"\033OA", "ArrowUp "},
    {"\033[1;5C", "ArrowRight+2 "},
    {"\033[3~", "Delete "},
    {"\033[24;2~", "F12+1 "},
    {"\033OP", "F1 "},
    {"\033[Z", "Tab+1 "},
    {"\033[99999999999~", "unknown "},
    {"\033[27u", "Escape "},
    {"\033[97;5u", "KeyA+2 "},
    {"\033a", "KeyA+4 "},
    {"\033\033", "Escape E:Escape "},
    {"\033", "E:Escape "},
    {"\033[", "E:BracketLeft+4 "},
    {"\033[I\033[O", "focus1 focus0 "},
    {"\033[<0;12;7M", "mouse0@12,7v "},
    {"\033[<0;12;7m", "mouse0@12,7^ "},
    {"\033[<35;1;1M", "mouse35@1,1v "},
    {"\033[<64;5;5M", "mouse64@5,5v "},
    {"\033[<0;0;7M", "unknown "},
    {"\033[<0;7M", "unknown "},
    {"\033[200~ab\033[201~c", "KeyA'a'p KeyB'b'p KeyC'c' "},
    {"\033[\033[A", "unknown ArrowUp "},
    {"\033[1234567890123456789012345678901234567890123456789012345678901234567"
     "890A",
     "unknown Digit6'6' Digit7'7' Digit8'8' Digit9'9' "
     "Digit0'0' KeyA'A'+1 "},
};

static void describe(record *r, token t)
{
    const char *code = ikv_code_name(t.code);
    switch (t.type) {
    case TOKEN_KEY:
        note(r, "%s", code != NULL ? code : "?");
        if (t.character >= 0x80)
            note(r, "'%x'", t.character);
        else if (t.character != 0)
            note(r, "'%c'", (char)t.character);
        if (t.modifiers != 0)
            note(r, "+%u", t.modifiers);
        note(r, t.pasted ? "p " : " ");
        break;
    case TOKEN_MOUSE:
        note(r, "mouse%u@%u,%u%c ", t.button, t.column, t.row,
             t.pressed ? 'v' : '^');
        break;
    case TOKEN_FOCUS:
        note(r, "focus%d ", t.pressed);
        break;
    case TOKEN_UNKNOWN:
        note(r, "unknown ");
        break;
    default:
        break;
    }
}

static void describe_more(parser *p, record *r)
{
    while (ikvi_parser_has_more(p))
        describe(r, ikvi_parser_more(p));
}

static void feed(parser *p, const char *bytes, record *r)
{
    for (; *bytes != '\0'; bytes++) {
        describe(r, ikvi_parser_take(p, (uint8_t)*bytes));
        describe_more(p, r);
    }
}

/* 19: where a line breaks off ("|") long enough for what waits to expire. A
 * mouse report never becomes keys, and what is typed is not lost. */
static const struct {
    const char *bytes, *tokens;
} late_table[] = {
    {"\033|[<0;10;5M", "Escape mouse0@10,5v "},
    {"\033[|<0;10;5M", "BracketLeft+4 mouse0@10,5v "},
    {"\033[<|0;10;5M", "mouse0@10,5v "},
    {"\033[<0|;10;5M", "mouse0@10,5v "},
    {"\033[<0;10;|5m", "mouse0@10,5^ "},
    {"\033[<0;10;5|M", "mouse0@10,5v "},
    {"\033|[|<0;10;5M", "Escape BracketLeft'[' Comma'<'+1 Digit0'0' "
                        "Semicolon';' Digit1'1' Digit0'0' Semicolon';' "
                        "Digit5'5' KeyM'M'+1 "},
    {"\033|[a", "Escape BracketLeft'[' KeyA'a' "},
    {"\033|[<a", "Escape BracketLeft'[' Comma'<'+1 KeyA'a' "},
    {"\033[|<|a", "BracketLeft+4 Comma'<'+1 KeyA'a' "},
    {"\033|[\033[A", "Escape BracketLeft'[' ArrowUp "},
    {"\033O|P", "KeyO+5 KeyP'P'+1 "},
    {"\033[1;5|A", "ArrowUp+2 "},
};

START_TEST(late_sequences)
{
    parser p = {0};
    record got = {""};
    for (const char *b = late_table[_i].bytes; *b != '\0'; b++) {
        const char one[2] = {*b, '\0'};
        if (*b != '|')
            feed(&p, one, &got);
        else if (ikvi_parser_waits(&p)) {
            describe(&got, ikvi_parser_expire(&p));
            describe_more(&p, &got);
        }
    }
    ck_assert_str_eq(got.text, late_table[_i].tokens);
}
END_TEST

START_TEST(sequences)
{
    parser p = {0};
    record got = {""};
    feed(&p, parse_table[_i].bytes, &got);
    if (ikvi_parser_waits(&p)) {
        note(&got, "E:");
        describe(&got, ikvi_parser_expire(&p));
    }
    ck_assert_str_eq(got.text, parse_table[_i].tokens);
}
END_TEST

/* Any bytes: never more than one token a byte, and back to rest. */
START_TEST(random_bytes)
{
    parser p = {0};
    uint64_t seed = 5;
    for (int i = 0; i < 300000; i++) {
        static const char likely[] = "\033[<;Mm0123456789~OABu";
        uint8_t byte = random_below(&seed, 2)
                           ? (uint8_t)likely[random_below(&seed, 20)]
                           : (uint8_t)random_below(&seed, 256);
        token t = ikvi_parser_take(&p, byte);
        ck_assert_int_le((int)t.type, TOKEN_UNKNOWN);
        ck_assert_uint_le(p.length, SEQUENCE_LIMIT);
    }
    ikvi_parser_expire(&p);
    ck_assert(!ikvi_parser_waits(&p));
}
END_TEST

/* -------------------------------------------------- a live run on a pty -- */

typedef struct live {
    int master, slave;
    pid_t leader, child;
    int states; /* the child's, as waitpid() tells them to its parent */
    struct termios before;
    record seen;
    const char *command; /* of a shell, in the place of a run; or NULL */
    bool leads;          /* in the place of the session's leader */
} live;

/* The session's leader: starts the run in the foreground, as a shell would, and
 * passes on what becomes of it. */
static void lead(const live *l, int states)
{
    login_tty(l->slave);
    if (l->command != NULL && l->leads) {
        int self = (int)getpid();
        if (write(states, &self, sizeof self) == sizeof self)
            execl("/bin/sh", "sh", "-c", l->command, (char *)NULL);
        _exit(127);
    }
    signal(SIGTTOU, SIG_IGN);
    signal(SIGHUP, SIG_IGN);
    pid_t child = fork();
    if (child == 0) {
        setpgid(0, 0);
        tcsetpgrp(STDIN_FILENO, getpid());
        signal(SIGTTOU, SIG_DFL);
        signal(SIGHUP, SIG_DFL);
        if (l->command != NULL)
            execl("/bin/sh", "sh", "-c", l->command, (char *)NULL);
        execl(BINARY "/ikvar", "ikvar", "run",
              SOURCE "/demo/harbour.setup.json", (char *)NULL);
        _exit(127);
    }
    int status = (int)child;
    do {
        if (write(states, &status, sizeof status) != sizeof status)
            break;
    } while (waitpid(child, &status, WUNTRACED) == child && WIFSTOPPED(status));
    if (write(states, &status, sizeof status) != sizeof status)
        _exit(1);
    _exit(0);
}

/* How long anything is waited for: a busy machine is slow, not wrong. */
#define PATIENCE_MS 60000

static int64_t now_ms(void)
{
    struct timespec now;
    clock_gettime(CLOCK_MONOTONIC, &now);
    return (int64_t)now.tv_sec * 1000 + now.tv_nsec / 1000000;
}

/* Takes what comes in so many ms, or until the child's state does; of much, the end
 * is kept. */
static void read_some(live *l, int ms)
{
    char bytes[4096];
    struct pollfd fds[2] = {{.fd = l->master, .events = POLLIN},
                            {.fd = l->states, .events = POLLIN}};
    if (poll(fds, 2, ms) <= 0 || fds[0].revents == 0)
        return;
    ssize_t count = read(l->master, bytes, sizeof bytes);
    char *text = l->seen.text;
    size_t used = strlen(text);
    if (used + sizeof bytes >= sizeof l->seen.text) {
        size_t kept = sizeof l->seen.text / 2;
        memmove(text, text + used - kept, kept);
        used = kept;
    }
    for (ssize_t i = 0; i < count; i++)
        if (bytes[i] != '\0')
            text[used++] = bytes[i];
    text[used] = '\0';
}

static bool has_state(const live *l)
{
    struct pollfd fd = {.fd = l->states, .events = POLLIN};
    return poll(&fd, 1, 0) == 1;
}

/* The next state; what is written until then is read, or the child would wait. */
static int next_state(live *l)
{
    int status = 0;
    int64_t began = now_ms();
    while (!has_state(l) && now_ms() - began < PATIENCE_MS)
        read_some(l, 50);
    ck_assert(has_state(l));
    ck_assert_int_eq(read(l->states, &status, sizeof status), sizeof status);
    return status;
}

static void start_shell(live *l, const char *command, bool leads)
{
    int ends[2];
    memset(l, 0, sizeof *l);
    l->command = command;
    l->leads = leads;
    struct winsize size = {36, 128, 0, 0};
    ck_assert_int_eq(openpty(&l->master, &l->slave, NULL, NULL, &size), 0);
    ck_assert_int_eq(tcgetattr(l->slave, &l->before), 0);
    ck_assert_int_eq(pipe(ends), 0);
    l->leader = fork();
    if (l->leader == 0) {
        close(l->master);
        lead(l, ends[1]);
    }
    close(ends[1]);
    l->states = ends[0];
    l->child = next_state(l);
    fcntl(l->master, F_SETFL, O_NONBLOCK);
}

static void start_live(live *l)
{
    start_shell(l, NULL, false);
}

/* Waits until the output holds the text. With a redraw period, the screen is asked
 * for anew so often: only what has changed would be written else. */
static void await_drawn(live *l, const char *text, int redraw_ms)
{
    int64_t began = now_ms(), drawn = INT64_MIN / 2;
    while (now_ms() - began < PATIENCE_MS) {
        if (strstr(l->seen.text, text) != NULL)
            return;
        if (redraw_ms > 0 && now_ms() - drawn >= redraw_ms) {
            kill(l->child, SIGWINCH);
            drawn = now_ms();
        }
        read_some(l, 50);
    }
    /* Check takes no longer messages */
    size_t length = strlen(l->seen.text);
    ck_abort_msg("no \"%s\" in: %s", text,
                 l->seen.text + (length > 3000 ? length - 3000 : 0));
}

static void await(live *l, const char *text)
{
    await_drawn(l, text, 0);
}

static void await_screen(live *l, const char *text)
{
    l->seen.text[0] = '\0';
    await_drawn(l, text, 500);
}

static void type(live *l, const char *bytes)
{
    ck_assert_int_eq(write(l->master, bytes, strlen(bytes)),
                     (ssize_t)strlen(bytes));
}

static int finish_live(live *l)
{
    int status = next_state(l);
    waitpid(l->leader, NULL, 0);
    struct termios after;
    ck_assert_int_eq(tcgetattr(l->slave, &after), 0);
    ck_assert_uint_eq(after.c_lflag, l->before.c_lflag);
    ck_assert_uint_eq(after.c_iflag, l->before.c_iflag);
    ck_assert_uint_eq(after.c_oflag, l->before.c_oflag);
    ck_assert_uint_eq(after.c_cflag, l->before.c_cflag);
    ck_assert_mem_eq(after.c_cc, l->before.c_cc, sizeof after.c_cc);
    const char *left = NULL;
    int64_t began = now_ms();
    while (left == NULL && now_ms() - began < PATIENCE_MS) {
        read_some(l, 50);
        left = strstr(l->seen.text, "\033[?1003l");
    }
    ck_assert_msg(left != NULL, "the mouse mode was left on");
    close(l->master);
    close(l->slave);
    return status;
}

static bool is_raw(const live *l)
{
    struct termios now;
    ck_assert_msg(tcgetattr(l->slave, &now) == 0, "no terminal any more: %s",
                  l->seen.text);
    return (now.c_lflag & ICANON) == 0;
}

static void await_raw(const live *l, bool raw)
{
    int64_t began = now_ms();
    while (is_raw(l) != raw && now_ms() - began < PATIENCE_MS)
        nanosleep(&(struct timespec){0, 20000000}, NULL);
    ck_assert_int_eq(is_raw(l), raw);
}

/* Keys, split sequences and the mouse reach the handlers; the release that no
 * terminal sends is made up; Ctrl-C ends the loop as a request to close. */
START_TEST(live_input)
{
    live l;
    start_live(&l);
    await(&l, "dusk");
    ck_assert(is_raw(&l));
    type(&l, "b");
    await(&l, "key.down");
    await(&l, "raise_bridge");
    await(&l, "at root: lower"); /* made up after the hold time */
    /* The east lamp is at (500, 80) of 640 x 360: column 100, row 8. A press
     * in pieces, one byte at a time. */
    for (const char *b = "\033[<0;101;9M"; *b != '\0'; b++) {
        char one[2] = {*b, '\0'};
        type(&l, one);
        nanosleep(&(struct timespec){0, 3000000}, NULL);
    }
    type(&l, "\033[<0;101;9m");
    await(&l, "lamp_east.lit: ");
    type(&l, "\033");
    await(&l, "key.down root");
    type(&l, "\003");
    int status = finish_live(&l);
    ck_assert(WIFEXITED(status) && WEXITSTATUS(status) == 0);
    ck_assert_ptr_nonnull(strstr(l.seen.text, "window.close"));
    ck_assert_ptr_nonnull(strstr(l.seen.text, "loop.end"));
}
END_TEST

START_TEST(terminated)
{
    live l;
    start_live(&l);
    await(&l, "dusk");
    kill(l.child, SIGTERM);
    int status = finish_live(&l);
    ck_assert_msg(WIFEXITED(status) && WEXITSTATUS(status) == 0,
                  "status %x after %s", (unsigned)status, l.seen.text);
}
END_TEST

/* Stopped, the terminal is as before; continued, the run goes on. */
START_TEST(stopped_and_continued)
{
    live l;
    int status;
    start_live(&l);
    await(&l, "dusk");
    type(&l, "\032"); /* Ctrl-Z */
    ck_assert(WIFSTOPPED(next_state(&l)));
    await_raw(&l, false);
    kill(l.child, SIGCONT);
    await_raw(&l, true);
    type(&l, "b");
    await(&l, "raise_bridge");
    type(&l, "\032");
    ck_assert(WIFSTOPPED(next_state(&l)));
    kill(l.child, SIGCONT);
    await_raw(&l, true);
    kill(l.child, SIGTERM);
    status = finish_live(&l);
    ck_assert(WIFEXITED(status));
}
END_TEST

/* 19: whom nobody can continue does not stop, and is raw again. */
START_TEST(leader_suspended)
{
    live l;
    start_shell(&l,
                "exec " BINARY "/ikvar run " SOURCE "/demo/harbour.setup.json",
                true);
    await(&l, "dusk");
    type(&l, "\032");
    await(&l, "\033[?1003l"); /* it was set back */
    await_raw(&l, true);
    type(&l, "b");
    await(&l, "raise_bridge");
    kill(l.leader, SIGTERM);
    int status;
    waitpid(l.leader, &status, 0);
    ck_assert(WIFEXITED(status) && WEXITSTATUS(status) == 0);
    close(l.master);
    close(l.slave);
}
END_TEST

/* 19: the log of a live run is seen as it comes; a reader that goes ends the
 * run, and the terminal and the recording are whole. */
START_TEST(reader_gone)
{
    live l;
    char out[512];
    start_shell(&l,
                "(" BINARY "/ikvar run --record gone.tape.jsonl " SOURCE
                "/demo/harbour.setup.json; echo $? > gone.code) | head -2",
                false);
    await(&l, "dusk"); /* at once, though it is a pipe */
    int64_t began = now_ms();
    while (access("gone.code", F_OK) != 0 && now_ms() - began < PATIENCE_MS) {
        type(&l, "b");
        nanosleep(&(struct timespec){0, 50000000}, NULL);
        read_some(&l, 1);
    }
    int status = finish_live(&l);
    ck_assert(WIFEXITED(status));
    char *code = read_file("gone.code");
    ck_assert_str_eq(code, "3\n");
    free(code);
    ck_assert_int_eq(run_command_line(out, sizeof out,
                                      "%s/ikvar tape verify "
                                      "gone.tape.jsonl",
                                      BINARY),
                     0);
    remove("gone.code");
    remove("gone.tape.jsonl");
}
END_TEST

/* A crash of any sort leaves the terminal as it was, and is still a crash. */
static const int crashes[] = {SIGSEGV, SIGABRT, SIGBUS, SIGFPE, SIGQUIT};

START_TEST(crashed)
{
    live l;
    start_live(&l);
    await(&l, "dusk");
    kill(l.child, crashes[_i]);
    int status = finish_live(&l);
    ck_assert(WIFSIGNALED(status));
    ck_assert_int_eq(WTERMSIG(status), crashes[_i]);
}
END_TEST

/* The other end hangs up: the run ends by itself. */
START_TEST(hung_up)
{
    live l;
    int status;
    start_live(&l);
    await(&l, "dusk");
    close(l.slave);
    close(l.master);
    l.master = -1; /* nothing to read any more */
    status = next_state(&l);
    ck_assert(WIFEXITED(status));
}
END_TEST

START_TEST(no_terminal)
{
    ikv_terminal_config config = IKV_TERMINAL_INIT;
    ikv_port port;
    ikv_message message;
    config.device = "/dev/null";
    status_is(ikv_terminal_open(&config, &port, &message), IKV_PORT_FAILED);
    ck_assert_str_eq(message.text, "/dev/null: Inappropriate ioctl for device; "
                                   "expected a terminal");
    config.device = "/nowhere";
    status_is(ikv_terminal_open(&config, &port, &message), IKV_PORT_FAILED);
    status_is(ikv_terminal_open(NULL, &port, NULL), IKV_BAD_ARGUMENT);
    config.size = 0;
    status_is(ikv_terminal_open(&config, &port, NULL), IKV_BAD_SIZE);
    ikv_terminal_close(NULL);
}
END_TEST

/* --------------------------------------------------------------- watch -- */

#define WATCH                                                                  \
    "TERM=xterm-256color exec " BINARY "/ikvar watch " SOURCE                  \
    "/demo/harbour.setup.json"

static void expect_after(live *l, const char *bytes, const char *text)
{
    type(l, bytes);
    await_screen(l, text);
}

static void resize(const live *l, unsigned short columns, unsigned short rows)
{
    struct winsize size = {rows, columns, 0, 0};
    ck_assert_int_eq(ioctl(l->slave, TIOCSWINSZ, &size), 0);
    kill(l->child, SIGWINCH);
}

/* The mouse and keys are the scene's, F1 to F10 are watch's; what came in is saved
 * as a tape that plays; the terminal is as it was. */
START_TEST(watch_live)
{
    live l;
    char out[4096];
    start_shell(&l, WATCH, false);
    await(&l, "events: heard");
    await(&l, "gull_proud");
    expect_after(&l, "b", "raise");
    /* the west lamp's lower edge, at (140, 92): 76 columns are 640 units */
    expect_after(&l, "\033[<0;17;7M\033[<0;17;7m", "pointer.click lamp_west");
    expect_after(&l, "\033OQ", "PAUSED");
    expect_after(&l, "\033[18~", "why: water");
    expect_after(&l, "\033[17~", "events: all");
    expect_after(&l, "\033OP", "this page");
    expect_after(&l, "\033OP", "why: water");
    expect_after(&l, "\033[15~", "x2");
    expect_after(&l, "\033[19~", "saved: watch-");
    resize(&l, 50, 12);
    await_screen(&l, "at least 60 x 20");
    resize(&l, 90, 30);
    await_screen(&l, "shallow");
    type(&l, "\033[21~");
    int status = finish_live(&l);
    ck_assert(WIFEXITED(status) && WEXITSTATUS(status) == 0);
    ck_assert_ptr_nonnull(strstr(l.seen.text, "\033[?1049l"));
    int code = run_command_line(
        out, sizeof out,
        BINARY "/ikvar run -d " SOURCE "/demo/harbour.setup.json "
               "watch-1.tape.jsonl && grep -c KeyB watch-1.tape.jsonl");
    ck_assert_msg(code == 0, "%s", out);
    code =
        run_command_line(out, sizeof out,
                         BINARY "/ikvar why " SOURCE "/demo/harbour.setup.json "
                                "watch-1.tape.jsonl --handler raise; "
                                "ls watch-*; rm watch-*");
    ck_assert_msg(strstr(out, "raise was called 1 time") != NULL, "%s", out);
    ck_assert_msg(strstr(out, ".part") == NULL, "%s", out);
}
END_TEST

/* Q3: what comes in while the run is paused waits: a release behind more moves, and
 * more wheel, than there is room for. */
START_TEST(watch_paused)
{
    live l;
    start_shell(&l, WATCH, false);
    await(&l, "gull_proud");
    expect_after(&l, "\033OQ", "PAUSED");
    type(&l, "\033[<0;17;7M");
    for (int i = 0; i < 600; i++) {
        type(&l, i % 2 ? "\033[<32;17;7M" : "\033[<32;18;7M");
        if (i % 50 == 0)
            read_some(&l, 50);
    }
    type(&l, "\033[<0;17;7m");
    for (int i = 0; _i > 0 && i < 600; i++) {
        type(&l, "\033[<64;17;7M");
        if (i % 50 == 0)
            read_some(&l, 50);
    }
    if (_i > 0)
        await_screen(&l, "no room for more input");
    expect_after(&l, "\033OQ", "pointer.click lamp_west");
    type(&l, "\033[21~");
    int status = finish_live(&l);
    ck_assert(WIFEXITED(status) && WEXITSTATUS(status) == 0);
}
END_TEST

/* However it ends, the terminal is as it was, and nothing lies about. */
static const struct {
    const char *how;
    int signal, code;
} watch_ends[] = {{"SIGTERM", SIGTERM, 0},
                  {"SIGINT", SIGINT, 0},
                  {"a crash", SIGSEGV, -1},
                  {"an abort", SIGABRT, -1}};

START_TEST(watch_ended)
{
    live l;
    char out[1024];
    start_shell(&l, WATCH, false);
    await(&l, "gull_proud");
    kill(l.child, watch_ends[_i].signal);
    int status = finish_live(&l);
    if (watch_ends[_i].code < 0)
        ck_assert(WIFSIGNALED(status) &&
                  WTERMSIG(status) == watch_ends[_i].signal);
    else
        ck_assert(WIFEXITED(status) &&
                  WEXITSTATUS(status) == watch_ends[_i].code);
    await(&l, "\033[?1049l");
    /* what a crash leaves behind is a tape */
    run_command_line(out, sizeof out, "ls watch-*; rm -f watch-*");
    ck_assert_msg((strstr(out, ".part") != NULL) == (watch_ends[_i].code < 0),
                  "%s", out);
}
END_TEST

/* A tape is played at its speed, to its end; then it is still there to be asked. */
START_TEST(watch_tape)
{
    live l;
    start_shell(&l, WATCH " " SOURCE "/demo/harbour.tape.jsonl", false);
    await_screen(&l, "ENDED");
    await_screen(&l, "focus.in log_book");
    expect_after(&l, "\033[19~", "it is a tape already");
    expect_after(&l, "\033[18~", "why: water");
    type(&l, "\033[21~");
    int status = finish_live(&l);
    ck_assert(WIFEXITED(status) && WEXITSTATUS(status) == 0);
}
END_TEST

/* A terminal that nobody knows: it is said, and nothing has changed. */
START_TEST(watch_unknown_terminal)
{
    live l;
    start_shell(&l,
                "TERM=teleprinter exec " BINARY "/ikvar watch " SOURCE
                "/demo/harbour.setup.json",
                false);
    await(&l, "TERM names no terminal that can be drawn on");
    int status = finish_live(&l);
    ck_assert(WIFEXITED(status) && WEXITSTATUS(status) == 3);
}
END_TEST

Suite *terminal_suite(void)
{
    Suite *s = suite_create("terminal");
    add_table(s, "sequences", sequences, ROWS(parse_table));
    add_table(s, "19 late sequences", late_sequences, ROWS(late_table));
    add(s, "random bytes", random_bytes);
    add(s, "live", live_input);
    add(s, "SIGTERM", terminated);
    add(s, "SIGTSTP", stopped_and_continued);
    add(s, "19 a leader's SIGTSTP", leader_suspended);
    add(s, "19 the reader is gone", reader_gone);
    add_table(s, "crash", crashed, ROWS(crashes));
    add(s, "hung up", hung_up);
    add(s, "no terminal", no_terminal);
    add(s, "watch", watch_live);
    add_table(s, "Q3 watch paused", watch_paused, 2);
    add_table(s, "watch ended", watch_ended, ROWS(watch_ends));
    add(s, "watch a tape", watch_tape);
    add(s, "watch an unknown terminal", watch_unknown_terminal);
    return s;
}
