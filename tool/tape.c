/* tape.c - ikvar tape: info, cut, join, convert, verify. */
#include "tool.h"

#include <jansson.h>
#include <stdlib.h>
#include <string.h>

static int wrong(const char *text)
{
    fprintf(stderr, "ikvar tape: %s\n", text);
    return WRONG_USE;
}

int bad_tape(const char *text)
{
    fprintf(stderr, "ikvar tape: %s\n", text);
    return BAD_INPUT;
}

/* ----------------------------------------------------------------- info -- */

typedef struct tape_facts {
    uint64_t events, played_back, between, held, inbox, losses;
    uint64_t last_ns, checks;
    ikv_check last_check;
    uint64_t kinds[IKV_KIND_LIMIT];
} tape_facts;

static ikv_status read_facts(const char *path, const ikv_setup *setup,
                             tape_facts *facts, ikv_tape_info *info,
                             char *named, size_t size, ikv_message *message)
{
    ikv_tape *tape;
    ikv_event event;
    ikv_intake intake;
    ikv_status status = ikv_tape_open(path, setup, &tape, message);
    *facts = (tape_facts){0};
    named[0] = '\0';
    if (status < 0)
        return status;
    while ((status = ikv_tape_next(tape, &event, &intake, message)) == IKV_OK) {
        facts->events++;
        facts->kinds[event.kind]++;
        facts->between += intake.group != 0;
        facts->held += intake.how == IKV_INTAKE_HELD;
        facts->inbox += intake.how == IKV_INTAKE_INBOX;
        facts->losses += event.kind == IKV_KIND_DEVICE_RESYNC;
        /* late ones stand behind those that they were before */
        if (event.time_ns > facts->last_ns)
            facts->last_ns = event.time_ns;
    }
    ikv_check check;
    while (ikv_tape_check(tape, (uint32_t)facts->checks, &check)) {
        facts->checks++;
        facts->last_check = check;
    }
    *info = ikv_tape_about(tape);
    if (status >= 0)
        warn_of_tape("tape", tape);
    snprintf(named, size, "%s", info->setup != NULL ? info->setup : "");
    ikv_tape_close(tape);
    return status;
}

static int print_facts_json(const char *path, const tape_facts *facts,
                            const ikv_tape_info *info, const char *named,
                            const ikv_catalogue *catalogue)
{
    json_t *kinds = json_object(), *line = json_object();
    for (uint32_t kind = 0; kind < IKV_KIND_LIMIT; kind++)
        if (facts->kinds[kind] > 0)
            put_json(kinds, ikv_catalogue_info(catalogue, (ikv_kind)kind)->name,
                     json_integer((json_int_t)facts->kinds[kind]));
    put_text(line, "tape", path);
    put_json(line, "events", json_integer((json_int_t)facts->events));
    put_json(line, "last", json_real((double)facts->last_ns / 1e6));
    put_json(line, "until", json_real((double)info->until_ns / 1e6));
    put_json(line, "setup",
             named[0] != '\0' ? json_string(named) : json_null());
    put_json(line, "between_steps", json_integer((json_int_t)facts->between));
    put_json(line, "inbox", json_integer((json_int_t)facts->inbox));
    put_json(line, "losses", json_integer((json_int_t)facts->losses));
    put_json(line, "checks", json_integer((json_int_t)facts->checks));
    put_json(line, "kinds", kinds);
    return print_json(stdout, line, false, "tape");
}

static void print_facts(const char *path, const tape_facts *facts,
                        const ikv_tape_info *info, const char *named,
                        const ikv_catalogue *catalogue)
{
    uint64_t until =
        info->until_ns > facts->last_ns ? info->until_ns : facts->last_ns;
    printf("%s\n  %llu events in %.3f s", path,
           (unsigned long long)facts->events, (double)until / 1e9);
    if (info->step_num > 0)
        printf(", %u steps in %u s", info->step_num, info->step_den);
    printf("%s\n", info->at_frame ? ", routed at frames" : "");
    if (named[0] != '\0')
        printf("  for the setup %s\n", named);
    if (facts->between > 0)
        printf("  %llu took effect between steps\n",
               (unsigned long long)facts->between);
    if (facts->inbox > 0)
        printf("  %llu came from other threads\n",
               (unsigned long long)facts->inbox);
    if (facts->losses > 0)
        printf("  %llu times a device's state was made up after a loss\n",
               (unsigned long long)facts->losses);
    if (facts->checks > 0 && facts->last_check.last)
        printf("  digest %016llx of %llu deliveries, %llu checks on the way\n",
               (unsigned long long)facts->last_check.digest,
               (unsigned long long)facts->last_check.deliveries,
               (unsigned long long)facts->checks - 1);
    else
        printf("  no digest of the whole run\n");
    for (uint32_t kind = 0; kind < IKV_KIND_LIMIT; kind++)
        if (facts->kinds[kind] > 0)
            printf("  %10llu %s\n", (unsigned long long)facts->kinds[kind],
                   ikv_catalogue_info(catalogue, (ikv_kind)kind)->name);
}

/* With the setup that the tape names, if kinds on it are not known without. */
static int tell_of_tape(const char *path, ikv_setup *given, bool json)
{
    /* a count for each kind is too much for a stack */
    tape_facts *facts = calloc(1, sizeof *facts);
    ikv_tape_info info = {0};
    ikv_setup *own = NULL;
    ikv_message message = {"no memory"}, other;
    char named[512], from[4096];
    ikv_status status = IKV_NO_MEMORY;
    if (facts != NULL)
        status = read_facts(path, given, facts, &info, named, sizeof named,
                            &message);
    if (status < 0 && facts != NULL && given == NULL && named[0] != '\0' &&
        setup_of_tape(path, from, sizeof from, &other) != NULL &&
        ikv_setup_read(from, &own, &other) == IKV_OK)
        status =
            read_facts(path, own, facts, &info, named, sizeof named, &message);
    const ikv_catalogue *kinds = ikv_setup_catalogue(own != NULL ? own : given);
    int code = FINE;
    if (status < 0)
        code = bad_tape(message.text);
    else if (json)
        code = print_facts_json(path, facts, &info, named, kinds);
    else
        print_facts(path, facts, &info, named, kinds);
    ikv_setup_close(own);
    free(facts);
    return code;
}

static int tell_of_tapes(arguments *left, const char *setup_path, bool json)
{
    ikv_setup *setup = NULL;
    ikv_message message;
    int code = FINE;
    if (left->count == 0)
        return wrong("expected TAPE...; see ikvar tape --help");
    if (setup_path != NULL && ikv_setup_read(setup_path, &setup, &message) < 0)
        return bad_tape(message.text);
    for (const char *path; (path = next_argument(left)) != NULL;) {
        int one = tell_of_tape(path, setup, json);
        code = one > code ? one : code;
    }
    ikv_setup_close(setup);
    return code;
}

/* --------------------------------------------------------- cut and join -- */

/* How it went; what was left out of a torn tape is said. */
static int end_tape(ikv_status status, const ikv_message *message)
{
    if (status < 0)
        return bad_tape(message->text);
    if (message->text[0] != '\0')
        fprintf(stderr, "ikvar tape: warning: %s\n", message->text);
    return FINE;
}

static int join_tapes(arguments *left, const char *output, double from_ms,
                      double to_ms, bool cut)
{
    ikv_tape_part parts[64];
    ikv_message message = {"no memory"};
    uint32_t count = 0;
    if (output == NULL)
        return wrong("expected --output TAPE");
    for (const char *path; (path = next_argument(left)) != NULL; count++) {
        /* a cut is a join of one part */
        if (count == (cut ? 1 : 64))
            return wrong(cut ? "expected one TAPE to cut"
                             : "expected at most 64 tapes");
        parts[count] = (ikv_tape_part){.path = path};
    }
    if (count == 0)
        return wrong("expected TAPE...; see ikvar tape --help");
    if (cut) {
        /* 0 is to the end; and what is no number is not after anything */
        if (to_ms != 0 && !(to_ms > from_ms))
            return wrong("--from and --to: expected milliseconds, the second "
                         "after the first");
        parts[0].from_ns = (uint64_t)(from_ms * 1e6 + 0.5);
        parts[0].to_ns = (uint64_t)(to_ms * 1e6 + 0.5);
    }
    return end_tape(ikv_tape_join(parts, count, output, &message), &message);
}

static int convert_tape(arguments *left, const char *setup_path,
                        const char *output)
{
    ikv_setup *setup = NULL;
    ikv_message message = {"no memory"};
    const char *from = next_argument(left);
    const char *to = output != NULL ? output : next_argument(left);
    if (from == NULL || to == NULL || next_argument(left) != NULL)
        return wrong("expected the TAPE and the NEW one, which is binary if "
                     "its name ends with \".cbor\"");
    if (setup_path != NULL && ikv_setup_read(setup_path, &setup, &message) < 0)
        return bad_tape(message.text);
    ikv_status status = ikv_tape_convert(from, to, setup, &message);
    ikv_setup_close(setup);
    return end_tape(status, &message);
}

int tape_command(int argc, char **argv)
{
    bool json = false;
    int code;
    arguments left;
    const char *setup = NULL, *output = NULL;
    double from_ms = 0, to_ms = 0;
    const option_row options[] = {
        {"setup", 's', OPTION_TEXT, &setup, "SETUP",
         "read the tapes with this setup's kinds and targets", 0, 0},
        {"output", 'o', OPTION_TEXT, &output, "TAPE",
         "cut, join: the tape to write", 0, 0},
        {"from", '\0', OPTION_NUMBER, &from_ms, "MS", "cut: where to begin", 0,
         8.64e9},
        {"to", '\0', OPTION_NUMBER, &to_ms, "MS", "cut: where to end", 0,
         8.64e9},
        {"json", 'j', OPTION_FLAG, &json, NULL, "info, verify: as JSON lines",
         0, 0},
        {0}};
    if (!parse_options(
            argc, argv, options,
            "tape VERB [options] TAPE...\n\n"
            "  info TAPE...             what is on tapes\n"
            "  cut TAPE -o NEW          the part --from MS --to MS, from 0 on\n"
            "  join TAPE... -o NEW      one after the other\n"
            "  convert TAPE NEW         binary if NEW ends with .cbor, else "
            "lines\n"
            "  timeline TAPE -o FILE    frames, steps, events and handlers of "
            "a "
            "run as spans,\n                           in the Trace Event "
            "form that general viewers read\n"
            "  verify FOLDER|TAPE...    play them, several at a time, and "
            "compare the digests;\n                           where a trace "
            "lies beside a tape, show the first difference",
            &left, &code))
        return code;
    const char *verb = next_argument(&left);
    if (verb == NULL)
        return wrong("expected info, cut, join, convert, timeline or verify");
    if (strcmp(verb, "info") == 0)
        return tell_of_tapes(&left, setup, json);
    if (strcmp(verb, "cut") == 0)
        return join_tapes(&left, output, from_ms, to_ms, true);
    if (strcmp(verb, "join") == 0)
        return join_tapes(&left, output, 0, 0, false);
    if (strcmp(verb, "convert") == 0)
        return convert_tape(&left, setup, output);
    if (strcmp(verb, "verify") == 0)
        return verify_tapes(&left, setup, json);
    if (strcmp(verb, "timeline") == 0)
        return write_timeline(&left, setup, output);
    static const char *const verbs[] = {"info",     "cut",    "join", "convert",
                                        "timeline", "verify", NULL};
    char hint[IKV_HINT_BYTES];
    const char *near = ikv_nearest_name(verb, verbs);
    char shown[160];
    fprintf(stderr,
            "ikvar tape: found \"%s\", expected info, cut, join, convert, "
            "timeline or verify%s\n",
            ikv_shown_text(verb, shown, sizeof shown),
            ikv_did_you_mean(near, hint, sizeof hint));
    return WRONG_USE;
}
