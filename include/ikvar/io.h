/* ikvar/io.h - setup, tape and trace files; needs the host library.
 *
 * Overview
 *   A setup describes targets, kinds and handlers; a tape is what ports
 *   delivered; a trace is what was delivered to whom. docs/files.md has the
 *   formats.
 *
 *       ikv_kit_config config = IKV_KIT_INIT;
 *       ikv_setup_read("harbour.setup.json", &setup, &message);
 *       ikv_setup_bind(setup, "greet", greet, NULL);   // your own handler
 *       ikv_setup_size(setup, &config);                // as large as needed
 *       ikv_kit_open(&config, &kit);
 *       ikv_setup_apply(setup, kit, 0, &message);
 *       ...
 *       ikv_kit_close(kit);
 *       ikv_setup_close(setup);                        // after the kit
 *
 * Errors
 *   Each function that reads fills in a message that says where (file and
 *   line, or file and JSON pointer), what was found and what was expected.
 *
 * Memory
 *   The C library's allocator; not on the path of an event, but for the lines
 *   of a trace. What can't be allocated is NO_MEMORY, with a message. One
 *   limit: jansson 2.14, which reads the JSON, reads past its buffer for a text
 *   when that can't grow; a program that must live through it gives jansson an
 *   allocator with a reserve (json_set_alloc_funcs()), as the ikvar command
 *   does.
 *
 * Threads
 *   The owner's thread of the kit.
 */
#ifndef IKVAR_IO_H
#define IKVAR_IO_H

#include "kit.h"
#include "mistake.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Blocks from the C library: aligned_alloc and free. On Linux large ones, of 4 MB
 * and more, ask for large pages.
 * Context: any thread; O(1). */
IKV_API ikv_memory ikv_host_memory(void);

/* The nearest of the known names (a list that ends with NULL), by how many
 * letters differ; NULL if none is near. For "did you mean".
 * Context: any thread; O(names). */
IKV_API const char *ikv_nearest_name(const char *name,
                                     const char *const *known);

/* A text for people to look at, in the buffer: its control characters, and bytes
 * that are not UTF-8, are their numbers, \x1b, so that a name can't move a
 * terminal's cursor and stands in JSON; what does not fit is left out.
 * Returns the buffer. Context: any thread; O(text). */
IKV_API const char *ikv_shown_text(const char *text, char *buffer, size_t size);

/* What follows a name that is not known: `; did you mean "name"?`, with one that
 * ikv_nearest_name() gave, as ikv_shown_text() shows it; "" for NULL.
 * Returns the buffer; IKV_HINT_BYTES are enough. Context: any thread; O(name). */
#define IKV_HINT_BYTES 256
IKV_API const char *ikv_did_you_mean(const char *name, char *buffer,
                                     size_t size);

/* ---------------------------------------------------------------- setup -- */

typedef struct ikv_setup ikv_setup;

/* Reads and checks a whole setup file; its kinds are registered in a catalogue
 * of its own. Returns IKV_OK, BAD_ARGUMENT, BAD_FILE or NO_MEMORY.
 * Context: one thread at a time; allocates; O(file). */
IKV_API ikv_status ikv_setup_read(const char *path, ikv_setup **setup,
                                  ikv_message *message);

/* After the kit is closed. NULL is fine.
 * Context: one thread at a time; O(1) but for what it frees. */
IKV_API void ikv_setup_close(ikv_setup *setup);

/* The catalogue with the setup's kinds.
 * Context: one thread at a time; O(1). */
IKV_API const ikv_catalogue *ikv_setup_catalogue(const ikv_setup *setup);

/* Binds your handler to the handler of that name, which must have no
 * reactions. Before ikv_setup_apply(), which needs it; or afterwards, to bind
 * another one, of code that was loaded anew for instance: then this is
 * ikv_bus_rebind(), too.
 * Returns IKV_OK; UNKNOWN_NAME; DUPLICATE if it has reactions, or is bound and
 * not applied; FULL_NAMES as of ikv_bus_rebind().
 * Context: the kit's thread, inside handlers too once it is applied; O(1) on
 * average, then O(subscriptions). */
IKV_API ikv_status ikv_setup_bind(ikv_setup *setup, const char *name,
                                  ikv_handler handler, void *user);

/* Sets what the setup settles in a kit's config: catalogue, capacities, the
 * loop's settings; numbers in the config that are larger stay. Returns IKV_OK,
 * or BAD_ARGUMENT for NULL.
 * Context: one thread at a time; O(targets + handlers). */
IKV_API ikv_status ikv_setup_size(const ikv_setup *setup,
                                  ikv_kit_config *config);

/* Flags of ikv_setup_apply(): handlers without reactions that are not bound
 * are let be; they are called and do nothing. */
enum {
    IKV_APPLY_UNBOUND = 1
};

/* Adds the setup's targets, actions and subscriptions to a kit: all of them, or
 * none; after an error it can be tried again, with another kit too.
 * Returns IKV_OK; UNKNOWN_NAME for a handler that is not bound; DUPLICATE for
 * an action that the kit has; BAD_ARGUMENT for NULL, or if it is applied
 * already; or why something could not be added, as ikv_scene_add(),
 * ikv_bus_subscribe(), ikv_actions_add().
 * Context: the kit's thread, not inside a handler; O(targets + handlers). */
IKV_API ikv_status ikv_setup_apply(ikv_setup *setup, ikv_kit *kit,
                                   uint32_t flags, ikv_message *message);

/* Takes an edited setup into the kit that runs. The file is compared with what
 * it was: what it says as before stays as the game has it by now, what it says
 * differently is done.
 *   targets   are known by their ids: those that stay keep their handles,
 *             fields, captures and focus; those that are gone are removed with
 *             what is in them, and end properly (GONE1). One that the game has
 *             removed does not come back. Where the order of siblings differs
 *             in the file, they lie as it says
 *   handlers  are known by their names: those that say the same keep their
 *             subscriptions, with what they counted and whether they are muted;
 *             others are subscribed anew, after all of their rank. What was
 *             bound stays bound
 *   actions   keep bindings that a player chose, unless the file's are others
 *   kinds     can be added (up to 15), layers behind the others
 * Kinds, the order of layers, a target's "body", and the settings "view", "loop",
 * "router" and "announces" can't change: that is an error.
 *   path     of the file; NULL: of the one before
 *   flags    as of ikv_setup_apply(): without IKV_APPLY_UNBOUND, a new handler
 *            without reactions is an error. With it, ikv_setup_bind() can bind
 *            it afterwards
 *   message  what was wrong; after IKV_OK, what has changed
 * All of it or nothing: on an error the kit is as it was, but for kinds, which
 * stay registered, and what handlers of tree.attach and tree.move have done,
 * where the setup announces these. Names of before, and an image of it, stay
 * good: the setup keeps all that it was until it is closed.
 * A tape of a run in which a setup was taken in anew does not play back the
 * same.
 * Returns IKV_OK, BAD_ARGUMENT (NULL, not applied to this kit), BAD_FILE,
 * NO_MEMORY, BUSY inside a handler, or as ikv_setup_apply().
 * Context: the kit's thread, not inside a handler; allocates, and copies the
 * kit's state once; O(file + targets + handlers). */
IKV_API ikv_status ikv_setup_reload(ikv_setup *setup, ikv_kit *kit,
                                    const char *path, uint32_t flags,
                                    ikv_message *message);

/* A target by its id in the file; zero bits if it is not there.
 * Context: owner thread, inside handlers too; O(1) on average. */
IKV_API ikv_target ikv_setup_target(const ikv_setup *setup, const char *id);

/* The subscription of a handler, once the setup is applied; zero bits if there
 * is no handler of that name.
 * Context: owner thread, inside handlers too; O(1) on average. */
IKV_API ikv_subscription ikv_setup_subscription(const ikv_setup *setup,
                                                const char *handler);

/* The owner of that name of some handlers, once the setup is applied, with which
 * ikv_bus_drop_owner() ends them together; zero bits if there is none.
 * Context: owner thread, inside handlers too; O(owners), at most 64. */
IKV_API ikv_owner ikv_setup_owner(const ikv_setup *setup, const char *name);

/* Names in the file, from index 0 on; NULL past the last.
 * Context: one thread at a time; O(1). */
enum {
    IKV_SETUP_HANDLERS = 0,
    IKV_SETUP_TARGETS = 1,
    IKV_SETUP_ACTIONS = 2
};
IKV_API const char *ikv_setup_name(const ikv_setup *setup, uint32_t of,
                                   uint32_t index);

/* The id in the file of a target of the kit; "root" for the root; "gone" if it
 * has been removed or is none of the file's.
 * Context: owner thread, inside handlers too; O(1) on average. */
IKV_API const char *ikv_setup_target_name(const ikv_setup *setup,
                                          ikv_target target);

/* The name in the file of a target's field, by the number that field.set bears;
 * "?" for a number that is none.
 * Context: owner thread, inside handlers too; O(1) on average. */
IKV_API const char *ikv_setup_field_name(const ikv_setup *setup,
                                         uint32_t number);

/* The view's size in the file; 0 where it says nothing.
 * Context: one thread at a time; O(1). */
IKV_API void ikv_setup_view(const ikv_setup *setup, float *width,
                            float *height);

/* Told something in a few words, which live for the call. */
typedef void (*ikv_note_fn)(const char *note, void *user);

/* Told what each reaction did. NULL takes it away.
 * Context: one thread at a time; O(1). */
IKV_API void ikv_setup_set_note(ikv_setup *setup, ikv_note_fn note, void *user);

/* How many targets, handlers and kinds the file has. */
typedef struct ikv_setup_counts {
    uint32_t size;
    uint32_t targets, handlers, kinds;
} ikv_setup_counts;

#define IKV_SETUP_COUNTS_INIT IKV_SIZED(ikv_setup_counts)
/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_setup_counters(const ikv_setup *setup,
                                      ikv_setup_counts *counts);

/* Usual mistakes that are no errors, one a call from index 0 on, the setup's;
 * NULL past the last.
 * Context: one thread at a time; O(1). */
IKV_API const ikv_mistake *ikv_setup_mistake(const ikv_setup *setup,
                                             uint32_t index);

/* Mistakes of where things lie, in the scene to which the setup is applied and
 * as it is now: targets that others cover wholly, or that an ancestor clips
 * away, unless a reaction may change that. Each is given to `told`.
 * Returns IKV_OK, BAD_ARGUMENT, or ABSENT if the setup is not applied.
 * Context: the kit's thread; O(targets) hit tests, each with all that lies
 * there. */
IKV_API ikv_status ikv_setup_survey(const ikv_setup *setup, ikv_mistake_fn told,
                                    void *user);

/* ------------------------------------------------------------- bindings -- */

/* Who names the targets and layers of scopes, and what becomes of a file that
 * knows more than the game.
 *   flags        IKV_BINDINGS_LENIENT: actions, targets, layers and keys that
 *                nobody knows are left out, each with a call of `skipped`, so
 *                that a player's file survives an update; else they are errors
 *   setup        whose targets and layers it is about; or NULL, and then:
 *   target_name  the name that a target has in the file; NULL: it has none, and
 *                nothing is saved
 *   find_target  the target of that name; zero bits: there is none
 *   skipped      told what was left out, with its place; may be NULL
 * Without a setup layers are named by their numbers. */
typedef struct ikv_bindings_config {
    uint32_t size;
    uint32_t flags;
    const ikv_setup *setup;
    const char *(*target_name)(void *user, ikv_target target);
    ikv_target (*find_target)(void *user, const char *name);
    ikv_note_fn skipped;
    void *user;
} ikv_bindings_config;

#define IKV_BINDINGS_INIT IKV_SIZED(ikv_bindings_config)

enum {
    IKV_BINDINGS_LENIENT = 1
};

/* Reads a file of bindings: each action that it names gets the ones that it
 * lists instead of its own, the others keep theirs.
 *   actions  NULL: the file is only checked
 *   config   NULL: no scopes within targets, and what is not known is an error
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, FULL_BINDINGS, NO_MEMORY, or BAD_FILE
 * with a message; on an error nothing has changed.
 * Context: the kit's thread, not inside a handler; allocates; O(file +
 * bindings). */
IKV_API ikv_status ikv_bindings_load(const char *path, ikv_actions *actions,
                                     const ikv_bindings_config *config,
                                     ikv_message *message);

/* Writes all actions' bindings: the whole file, or, after an error, what was
 * there before is still there. Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE,
 * NO_MEMORY, or BAD_FILE with a message.
 * Context: the kit's thread, not inside a handler; allocates; O(file +
 * bindings). */
IKV_API ikv_status ikv_bindings_save(const char *path,
                                     const ikv_actions *actions,
                                     const ikv_bindings_config *config,
                                     ikv_message *message);

/* Tells of each binding that starts two actions of one set at once, in scopes
 * that meet, and of each that an action has twice; usual mistakes, no errors.
 * Context: owner thread, inside handlers too; O(bindings^2). */
IKV_API void ikv_bindings_find_clashes(const ikv_actions *actions,
                                       ikv_mistake_fn told, void *user);

/* ----------------------------------------------------------------- tape -- */

typedef struct ikv_tape ikv_tape;

/* Opens a tape and reads its header; lines are read one by one.
 *   setup  for the kinds and the targets' names in it; NULL: built-in kinds,
 *          and no targets
 * Returns IKV_OK, BAD_ARGUMENT, BAD_FILE or NO_MEMORY.
 * Context: one thread at a time; allocates; O(file). */
IKV_API ikv_status ikv_tape_open(const char *path, const ikv_setup *setup,
                                 ikv_tape **tape, ikv_message *message);

/* The same for programs that register their kinds themselves; `kinds` must
 * outlive the tape, NULL: the built-in ones. Returns as ikv_tape_open().
 * Context: one thread at a time; allocates; O(file). */
IKV_API ikv_status ikv_tape_open_kinds(const char *path,
                                       const ikv_catalogue *kinds,
                                       ikv_tape **tape, ikv_message *message);

/* The next event, its time in ns since loop.start; gestures come as the events
 * that they stand for.
 *   intake  how and when it took effect, for ikv_sink_play(); may be NULL
 * Returns IKV_OK, ENDED, BAD_FILE or NO_MEMORY (again and again). A last line
 * that ends within its object, as a recording that was killed leaves it, is as
 * if it were not there, with a warning.
 * Context: one thread at a time; O(line). */
IKV_API ikv_status ikv_tape_next(ikv_tape *tape, ikv_event *event,
                                 ikv_intake *intake, ikv_message *message);

/* That the last line was left out, where it was found; NULL if it was not. The
 * text lives as long as the tape.
 * Context: one thread at a time; O(1). */
IKV_API const char *ikv_tape_warning(const ikv_tape *tape);

/* What the header says.
 *   until_ns   how long the run lasts at least; 0: it ends with the last event
 *   setup      path of the setup, as seen from the tape's folder; NULL: none
 *   step_num, step_den  steps a second of the loop that it was recorded from;
 *              0: any
 *   version    of the format: the digests of a tape of version 1 are of runs
 *              whose events had other times, and say nothing of this library
 *   at_frame   its timing
 * Context: one thread at a time; O(1). */
typedef struct ikv_tape_info {
    IKV_ALIGNED(8) uint64_t until_ns;
    const char *setup;
    uint32_t step_num, step_den;
    uint32_t version;
    bool at_frame;
} ikv_tape_info;
IKV_API ikv_tape_info ikv_tape_about(const ikv_tape *tape);

/* What the run's digest was before the first delivery of a later step.
 *   last     it is the digest of the whole run, which ended at end_ns */
typedef struct ikv_check {
    IKV_ALIGNED(8) uint64_t step;
    IKV_ALIGNED(8) uint64_t digest;
    IKV_ALIGNED(8) uint64_t deliveries;
    IKV_ALIGNED(8) uint64_t end_ns;
    bool last;
} ikv_check;

/* The checks on the tape that have been read so far, from index 0 on; false
 * past the last.
 * Context: one thread at a time; O(1). */
IKV_API bool ikv_tape_check(const ikv_tape *tape, uint32_t index,
                            ikv_check *check);

/* NULL is fine.
 * Context: one thread at a time; O(1) but for what it frees. */
IKV_API void ikv_tape_close(ikv_tape *tape);

/* A part of a tape, for ikv_tape_join().
 *   from_ns, to_ns  which lines, by when they take effect, in steps' time;
 *                   to_ns 0: all the rest */
typedef struct ikv_tape_part {
    const char *path;
    IKV_ALIGNED(8) uint64_t from_ns;
    IKV_ALIGNED(8) uint64_t to_ns;
} ikv_tape_part;

/* Writes a tape of parts of others, one after the other, each with its
 * beginning at 0 or where the part before it ends. What was cut anywhere and is
 * joined again is the whole: gestures that a cut goes through become their
 * events. Digests are left out, and what is down where a part begins is not
 * made up.
 *   path  of the new tape, none of the parts; its header is the first part's.
 *         It is whole, or, after an error, what was there before
 *         A binary one (".cbor") needs the setup that the header names, if
 *         there are kinds of its own
 * Returns IKV_OK, with a message only if a torn line was left out; BAD_ARGUMENT,
 * NO_MEMORY, or BAD_FILE with a message: of parts that differ in steps or timing,
 * for instance.
 * Context: one thread at a time; allocates; O(file). */
IKV_API ikv_status ikv_tape_join(const ikv_tape_part *parts, uint32_t count,
                                 const char *path, ikv_message *message);

/* Writes the same tape in the other form, by the names: what ends with ".cbor"
 * is binary, all else has lines. Events, gestures and digests stay what they
 * are; a line's "note" is left out.
 *   setup  for kinds of its own; NULL: the one that the tape names
 * Returns as ikv_tape_join().
 * Context: one thread at a time; allocates; O(file). */
IKV_API ikv_status ikv_tape_convert(const char *from, const char *to,
                                    const ikv_setup *setup,
                                    ikv_message *message);

/* ------------------------------------------------------------ recording -- */

typedef struct ikv_recording ikv_recording;

/*   path        of the tape to write
 *   kit         whose loop is recorded, from any port
 *   setup       for targets' names and the kinds of your own; may be NULL
 *   setup_path  the setup's path from here, which the tape names as seen from
 *               its own folder; may be NULL */
typedef struct ikv_recording_config {
    uint32_t size;
    uint32_t reserved;
    const char *path;
    ikv_kit *kit;
    const ikv_setup *setup;
    const char *setup_path;
} ikv_recording_config;

#define IKV_RECORDING_INIT IKV_SIZED(ikv_recording_config)

/* Writes a tape of what comes in from now on, a line at a time and each before
 * it takes effect: after a crash the tape ends with what caused it. Until it is
 * closed it is PATH.part, and what PATH was is still there; what is not a
 * regular file is written straight. Digests are written along with it. It takes
 * the loop's recorder and a watcher of the bus.
 * Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BUSY, FULL_WATCHERS, NO_MEMORY, or
 * BAD_FILE with a message.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_recording_open(const ikv_recording_config *config,
                                      ikv_recording **recording,
                                      ikv_message *message);

/* Ends the tape, before the kit is closed, and gives it its name.
 * Returns IKV_OK, or BAD_FILE with a message if a write failed, or the run went
 * back by an image (image.h): then what could be written, or had come in before
 * that, is in PATH.part. NULL is fine.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_recording_close(ikv_recording *recording,
                                       ikv_message *message);

/* Compares what a kit does while it plays a tape with the digests on the tape,
 * until the run goes back by an image.
 */
typedef struct ikv_comparison ikv_comparison;

/* Returns IKV_OK, BAD_ARGUMENT, BUSY, FULL_WATCHERS or NO_MEMORY.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_comparison_open(ikv_kit *kit, const ikv_tape *tape,
                                       ikv_comparison **comparison);

/*   digest       of the run, and how many deliveries it covers
 *   checks       digests that were compared
 *   whole        the last one, of the whole run, was among them
 *   differs      one was different: between from_step and to_step; if none was,
 *                they agree up to from_step
 *   old          the tape's digests are of an older version: not compared */
typedef struct ikv_comparison_result {
    IKV_ALIGNED(8) uint64_t digest;
    IKV_ALIGNED(8) uint64_t deliveries;
    IKV_ALIGNED(8) uint64_t from_step;
    IKV_ALIGNED(8) uint64_t to_step;
    uint32_t checks;
    bool whole, differs, old;
} ikv_comparison_result;

/* Ends the comparison, after the run and before the kit and the tape are
 * closed. NULL gives zeros.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_comparison_result ikv_comparison_close(ikv_comparison *comparison);

/* ---------------------------------------------------------------- trace -- */

typedef struct ikv_trace ikv_trace;

/* Writes a trace of all that the kit's bus delivers from now on, as one
 * of the bus's watchers.
 *   file   stays yours; flushed at the end
 *   setup  for targets' names, or NULL: then their numbers
 *   flags  IKV_TRACE_STEPS: without what belongs to frames and not to steps, so
 *          that it is the same at any frame rate
 *          IKV_TRACE_HEARD: without what no handler heard
 *          IKV_TRACE_SCENE: with lines of the scene as it is drawn at the end of
 *          each frame's steps, as far as it has changed
 *          IKV_TRACE_DECISIONS: with lines of what is decided beside calls, of
 *          what each event comes, and at the end the answers of why.h for the
 *          setup's handlers, actions and targets, the first 1,000 of them
 * Returns IKV_OK, BAD_ARGUMENT, BUSY, FULL_WATCHERS or NO_MEMORY.
 * Context: the kit's thread, not inside a handler; allocates. */
enum {
    IKV_TRACE_STEPS = 1,
    IKV_TRACE_HEARD = 2,
    IKV_TRACE_SCENE = 4,
    IKV_TRACE_DECISIONS = 8
};
IKV_API ikv_status ikv_trace_open(void *file, ikv_kit *kit,
                                  const ikv_setup *setup, uint32_t flags,
                                  ikv_trace **trace);

/* Ends the trace, before the kit is closed.
 * Returns IKV_OK, or BAD_FILE if a write failed. NULL is fine.
 * Context: the kit's thread, not inside a handler; allocates. */
IKV_API ikv_status ikv_trace_close(ikv_trace *trace);

#ifdef __cplusplus
}
#endif

#endif
