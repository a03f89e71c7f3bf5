/* why.c - ikvar why: plays a tape, and answers why a handler was not called or a
 * target not hit. */
#include "tool.h"

#include <stdlib.h>
#include <string.h>

typedef struct question {
    const char *handler, *target, *kind, *action, *overlap, *other;
    double from_ms, to_ms;
    bool json;
    bool all; /* of many: only what did not happen is told */
    int asked, missed;
    ikv_why *why;
} question;

/* A name that the setup does not have: with the nearest that it has. */
static int unknown_name(const ikv_setup *setup, uint32_t of, const char *what,
                        const char *name)
{
    uint32_t count = 0;
    char shown[160], hint[IKV_HINT_BYTES];
    while (ikv_setup_name(setup, of, count) != NULL)
        count++;
    const char **known = calloc(count + 1u, sizeof *known);
    for (uint32_t i = 0; known != NULL && i < count; i++)
        known[i] = ikv_setup_name(setup, of, i);
    const char *near = known != NULL ? ikv_nearest_name(name, known) : NULL;
    free(known);
    fprintf(stderr, "ikvar why: the setup has no %s \"%s\"%s\n", what,
            ikv_shown_text(name, shown, sizeof shown),
            ikv_did_you_mean(near, hint, sizeof hint));
    return BAD_INPUT;
}

static int find_kind(const ikv_setup *setup, const char *name, ikv_kind *kind)
{
    const ikv_catalogue *catalogue = ikv_setup_catalogue(setup);
    char shown[160];
    if (name == NULL)
        return FINE;
    *kind = ikv_catalogue_find(catalogue, name);
    const ikv_kind_info *info = ikv_catalogue_info(catalogue, *kind);
    if (info != NULL && info->positioned)
        return FINE;
    fprintf(stderr, "ikvar why: --kind: found \"%s\", expected %s\n",
            ikv_shown_text(name, shown, sizeof shown),
            info == NULL ? "a kind (ikvar kinds lists them)"
                         : "a kind that has a position");
    return BAD_INPUT;
}

static int find_target(const ikv_setup *setup, const char *id,
                       ikv_target *target)
{
    *target = ikv_setup_target(setup, id);
    return target->bits != 0
               ? FINE
               : unknown_name(setup, IKV_SETUP_TARGETS, "target", id);
}

/* By the names that were given. */
static int find_subject(const question *q, const ikv_setup *setup, ikv_kit *kit,
                        ikv_why_config *config)
{
    if (q->handler != NULL) {
        config->about = IKV_ASK_HANDLER;
        config->subscription = ikv_setup_subscription(setup, q->handler);
        return config->subscription.bits != 0
                   ? FINE
                   : unknown_name(setup, IKV_SETUP_HANDLERS, "handler",
                                  q->handler);
    }
    if (q->action != NULL) {
        config->about = IKV_ASK_ACTION;
        config->action = ikv_actions_find(ikv_kit_actions(kit), q->action);
        return config->action.bits != 0 ? FINE
                                        : unknown_name(setup, IKV_SETUP_ACTIONS,
                                                       "action", q->action);
    }
    if (q->overlap != NULL) {
        config->about = IKV_ASK_OVERLAP;
        int code = find_target(setup, q->overlap, &config->target);
        return code == FINE ? find_target(setup, q->other, &config->other)
                            : code;
    }
    config->about = IKV_ASK_TARGET;
    int code = find_target(setup, q->target, &config->target);
    return code == FINE ? find_kind(setup, q->kind, &config->kind) : code;
}

static int begin_question(void *user, ikv_kit *kit, ikv_setup *setup)
{
    question *q = user;
    ikv_why_config config = IKV_WHY_INIT;
    config.kit = kit;
    config.setup = setup;
    config.from_ns = (uint64_t)(q->from_ms * 1e6);
    config.to_ns = (uint64_t)(q->to_ms * 1e6);
    int code = find_subject(q, setup, kit, &config);
    if (code != FINE)
        return code;
    ikv_status status = ikv_why_open(&config, &q->why);
    if (status == IKV_OK)
        return FINE;
    fprintf(stderr, "ikvar why: %s\n", ikv_status_text(status));
    return BAD_INPUT;
}

static int end_question(void *user)
{
    question *q = user;
    ikv_why_answer answer = IKV_WHY_ANSWER_INIT;
    if (q->why == NULL)
        return FINE;
    ikv_why_ask(q->why, &answer);
    q->asked++;
    q->missed += answer.called == 0;
    if (!q->all || answer.called == 0)
        ikv_why_print(q->why, stdout,
                      q->json ? IKV_PRINT_JSON : IKV_PRINT_TEXT);
    ikv_why_close(q->why);
    q->why = NULL;
    return answer.called > 0 ? FINE : ANSWER_IS_NO;
}

static int wrong_use(const char *text)
{
    fprintf(stderr, "ikvar why: %s\n", text);
    return WRONG_USE;
}

/* A run for each name of that sort; the worst exit code. */
static int ask_each(const run_plan *plan, const ikv_setup *setup, uint32_t of,
                    const char **name)
{
    int worst = FINE;
    for (uint32_t i = 0; (*name = ikv_setup_name(setup, of, i)) != NULL; i++) {
        int code = run_plan_through(plan);
        worst = code > worst ? code : worst;
        if (code > ANSWER_IS_NO)
            break; /* it would be so each time */
    }
    *name = NULL;
    return worst;
}

/* Of all handlers and actions those that did nothing, each in a run of its own.
 */
static int ask_all(question *q, const run_plan *plan)
{
    ikv_setup *setup = NULL;
    ikv_message message = {""};
    q->all = true;
    if (ikv_setup_read(plan->setup, &setup, &message) < 0) {
        fprintf(stderr, "ikvar why: %s\n", message.text);
        return BAD_INPUT;
    }
    int code = ask_each(plan, setup, IKV_SETUP_HANDLERS, &q->handler);
    if (code <= ANSWER_IS_NO) {
        int actions = ask_each(plan, setup, IKV_SETUP_ACTIONS, &q->action);
        code = actions > code ? actions : code;
    }
    ikv_setup_close(setup);
    if (code <= ANSWER_IS_NO && !q->json)
        printf("%d handlers and actions: %d of them did nothing.\n", q->asked,
               q->missed);
    return code;
}

int why_command(int argc, char **argv)
{
    question q = {.why = NULL};
    bool all = false;
    run_plan plan = {.command = "why",
                     .begin = begin_question,
                     .end = end_question,
                     .user = &q};
    int code;
    arguments left;
    const option_row options[] = {
        {"handler", 'H', OPTION_TEXT, &q.handler, "NAME",
         "why was this handler not called?", 0, 0},
        {"target", 't', OPTION_TEXT, &q.target, "ID",
         "why was this target not hit?", 0, 0},
        {"kind", 'k', OPTION_TEXT, &q.kind, "KIND",
         "of a target: by events of this kind; else by what pointers,\n"
         "wheels and pens do",
         0, 0},
        {"action", 'a', OPTION_TEXT, &q.action, "NAME",
         "why did this action not start?", 0, 0},
        {"overlap", 'o', OPTION_TEXT, &q.overlap, "ID ID",
         "why did these two targets not come into contact?", 0, 0},
        {"all", 'A', OPTION_FLAG, &all, NULL,
         "of all handlers and actions those that did nothing, and why", 0, 0},
        {"from", 'f', OPTION_NUMBER, &q.from_ms, "MS",
         "look at events from then on", 0, 1e10},
        {"to", 'T', OPTION_NUMBER, &q.to_ms, "MS", "and no later", 0, 1e10},
        {"json", 'j', OPTION_FLAG, &q.json, NULL,
         "print the answer as one JSON object", 0, 0},
        {0}};
    if (!parse_options(
            argc, argv, options,
            "why SETUP TAPE (--handler NAME | --target ID | --action "
            "NAME | --overlap ID ID | --all) [options]\n\nExits with 0 if it "
            "was called, hit, started or came into contact, with 1 if "
            "not.",
            &left, &code))
        return code;
    plan.setup = next_argument(&left);
    plan.tape = next_argument(&left);
    if (q.overlap != NULL)
        q.other = next_argument(&left);
    if (plan.tape == NULL || left.count > 0)
        return wrong_use("expected SETUP TAPE; see ikvar why --help");
    if ((q.handler != NULL) + (q.target != NULL) + (q.action != NULL) +
            (q.overlap != NULL) + all !=
        1)
        return wrong_use(
            "expected one of --handler NAME, --target ID, --action "
            "NAME, --overlap ID ID, --all");
    if (q.overlap != NULL && q.other == NULL)
        return wrong_use(
            "--overlap: expected two targets: SETUP TAPE --overlap "
            "ID ID");
    if (q.kind != NULL && q.target == NULL)
        return wrong_use("--kind is of a target: give --target too");
    return all ? ask_all(&q, &plan) : run_plan_through(&plan);
}
