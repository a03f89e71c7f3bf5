/* fuzz.h - what the fuzzing programs share. Each has one function that takes
 * bytes; libFuzzer calls it, or plain.c with files of a corpus. What must hold
 * ends the program if it does not. */
#ifndef IKV_FUZZ_H
#define IKV_FUZZ_H

#include <ikvar/host.h>

#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* Ends the program, with where and what. */
#define MUST(condition)                                                        \
    ((condition) ? (void)0 : fuzz_broken(#condition, __FILE__, __LINE__))
_Noreturn void fuzz_broken(const char *what, const char *file, int line);

/* A file of the bytes, under a name of this process. */
const char *fuzz_file(const uint8_t *data, size_t size, const char *ending);

/* All validators of a kit; and that a message is there, or is not. */
void fuzz_validate(const ikv_kit *kit);
void fuzz_told(ikv_status status, const ikv_message *message);

/* One number of all that was told since fuzz_begin(); see look.c. With
 * `fuzz_tells` all of it goes to stderr: what two builds tell can be compared;
 * while `fuzz_quiet`, nothing is told. */
extern bool fuzz_tells, fuzz_quiet;
void fuzz_begin(void);
uint64_t fuzz_sum(void);
void fuzz_tell(const void *data, size_t size);
void fuzz_event(const ikv_event *event);
void fuzz_number(uint64_t value);
void fuzz_text(const char *text);
void fuzz_obstacle(const ikv_obstacle *obstacle);
void fuzz_watch(const ikv_watch *watch, void *user);
void fuzz_report(const ikv_report *report, void *user);
/* All that can be asked; for what runs `twice` without what depends on how
 * pairs are found. */
void fuzz_look(const ikv_kit *kit, const ikv_target *targets, uint32_t count,
               bool twice);

/* The setup that tapes, bindings and images are about. */
ikv_setup *fuzz_setup(void);
/* A kit with it, small, on the port. */
ikv_kit *fuzz_kit(ikv_setup *setup, ikv_port *port);

/* Asks why of a setup's nth handler, target, action or overlap, of what was kept
 * first, if `past` is not NULL; NULL if there is none. Then that there is an answer, which can be printed; it is closed. */
ikv_why *fuzz_ask(ikv_kit *kit, const ikv_setup *setup, uint32_t about,
                  uint32_t nth, const ikv_why_past *past);
/* Each mistake has a code that is known, and a text. */
void fuzz_mistake(const ikv_mistake *mistake, void *user);
void fuzz_answer(ikv_why *why);

#endif
