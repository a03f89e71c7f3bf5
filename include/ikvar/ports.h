/* ikvar/ports.h - the ports that come with the library; needs the host library.
 *
 * Overview
 *   Each port is opened into an ikv_port that a loop takes, and freed after the
 *   loop is closed:
 *
 *       ikv_port port;
 *       ikv_terminal_config config = IKV_TERMINAL_INIT;
 *       ikv_terminal_open(&config, &port, &message);
 *       ... a kit with that port ...
 *       ikv_kit_close(kit);
 *       ikv_terminal_close(&port);
 *
 * Threads
 *   The owner's thread of the loop.
 */
#ifndef IKVAR_PORTS_H
#define IKVAR_PORTS_H

#include "io.h"

#ifdef __cplusplus
extern "C" {
#endif

/* ----------------------------------------------------------------- null -- */

/* The smallest legal port: a clock, and no events. Nothing to free.
 * Context: any thread; O(1). */
IKV_API ikv_port ikv_null_port(void);

/* ------------------------------------------------------------------ sim -- */

/* What goes wrong, each of so many events in 10,000: a release that is lost
 * (the port knows that something was), 2,000 moves at once, a device that is
 * unplugged for a while, a window that loses the focus, an event that comes
 * twice, up to 100 ms late, or after the one behind it, a clock that jumps
 * ahead up to 3 s. */
typedef struct ikv_sim_faults {
    uint16_t lost_release, flood, unplug, blur;
    uint16_t duplicate, late, reorder, clock_jump;
} ikv_sim_faults;

/* How often it did; `pushed` counts all events that the loop was given,
 * `refused` those that it did not take. */
/* What a port's faults did. */
typedef struct ikv_sim_counts {
    uint32_t size;
    IKV_ALIGNED(8) uint64_t pushed;
    IKV_ALIGNED(8) uint64_t refused;
    IKV_ALIGNED(8) uint64_t lost_releases;
    IKV_ALIGNED(8) uint64_t floods;
    IKV_ALIGNED(8) uint64_t unplugs;
    IKV_ALIGNED(8) uint64_t blurs;
    IKV_ALIGNED(8) uint64_t duplicates;
    IKV_ALIGNED(8) uint64_t late;
    IKV_ALIGNED(8) uint64_t reordered;
    IKV_ALIGNED(8) uint64_t clock_jumps;
} ikv_sim_counts;

#define IKV_SIM_COUNTS_INIT IKV_SIZED(ikv_sim_counts)

/* Plays a tape, or makes input up.
 *   seed       of all that is left to chance; needed without a tape
 *   speed      0: as fast as possible, on a clock that jumps ahead to what the
 *              loop waits for; 1: at its own speed, on the machine's clock; 2:
 *              twice as fast, and so on. Of a tape that doesn't say until when
 *              it goes, a slow machine may see the end late
 *   jitter     how far positions may be off, view units; jitter_ns: times
 *   tape       stays yours; open while the port is. NULL: a mouse, ten fingers,
 *              a pen and two hands on a keyboard do what comes to mind
 *   faults     copied. NULL: none, and the loop gets what is taped in the steps
 *              in which it was recorded. With faults the port behaves as
 *              hardware
 *   view_width, view_height  where made-up input goes (640, 360)
 *   until_ns   end then even if the tape goes on; 0: with the tape
 */
typedef struct ikv_sim_config {
    uint32_t size;
    uint32_t seed;
    float speed;
    float jitter;
    float view_width, view_height;
    ikv_tape *tape;
    const ikv_sim_faults *faults;
    IKV_ALIGNED(8) uint64_t jitter_ns;
    IKV_ALIGNED(8) uint64_t until_ns;
} ikv_sim_config;

#define IKV_SIM_INIT IKV_SIZED(ikv_sim_config)

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, BAD_CONFIG (neither tape nor seed, a
 * number out of range) or NO_MEMORY.
 * Context: any thread; allocates. */
IKV_API ikv_status ikv_sim_open(const ikv_sim_config *config, ikv_port *port);

/* Fills `counts` in, which began as its INIT. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE. Context: owner thread, inside handlers too; O(1). */
IKV_API ikv_status ikv_sim_counters(const ikv_port *port,
                                    ikv_sim_counts *counts);

/* Why the port failed: the tape's error. NULL while all is well.
 * Context: the loop's thread; O(1). */
IKV_API const char *ikv_sim_fault(const ikv_port *port);

/* Context: when the loop is closed. */
IKV_API void ikv_sim_close(ikv_port *port);

/* ------------------------------------------------------------- wrappers -- */

/* A port around another that writes a line for each call to a FILE: its number,
 * the port's name, the call and what it returned. The inner port must outlive
 * it and is freed by you; the file stays yours. Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE or NO_MEMORY.
 * Context: any thread; allocates. */
IKV_API ikv_status ikv_log_port_open(const ikv_port *inner, void *file,
                                     ikv_port *port);
IKV_API void ikv_log_port_close(ikv_port *port);

/* The calls of a port that may break. */
enum {
    IKV_CALL_ANY = 0,
    IKV_CALL_OPEN = 1,
    IKV_CALL_POLL = 2,
    IKV_CALL_WAIT = 3,
    IKV_CALL_NOW = 4,
    IKV_CALL_HELD = 5,
    IKV_CALL_DESCRIBE = 6,
    IKV_CALL_REQUEST = 7,
    IKV_CALL_COUNT = 8
};

/*   call          which, or IKV_CALL_ANY
 *   nth           which of its calls, from 1 on; 0: none
 *   from_then_on  all later ones too */
typedef struct ikv_fault_config {
    uint32_t size;
    uint32_t call;
    IKV_ALIGNED(8) uint64_t nth;
    bool from_then_on;
} ikv_fault_config;

#define IKV_FAULT_INIT IKV_SIZED(ikv_fault_config)

/* A port around another of which the Nth call breaks: it fails without reaching
 * the inner one; a clock stands still, a name is empty. Fail the Nth, for every
 * N. Ownership as of ikv_log_port_open(). Returns IKV_OK, BAD_ARGUMENT,
 * BAD_SIZE, BAD_CONFIG or NO_MEMORY.
 * Context: any thread; allocates. */
IKV_API ikv_status ikv_fault_port_open(const ikv_port *inner,
                                       const ikv_fault_config *config,
                                       ikv_port *port);

/* How often it was called so far.
 * Context: the loop's thread; O(1). */
IKV_API uint64_t ikv_fault_port_calls(const ikv_port *port, uint32_t call);
IKV_API void ikv_fault_port_close(ikv_port *port);

/* ------------------------------------------------------------- terminal -- */

/* The terminal's own keys and mouse. One at a time in a process. It takes over
 * SIGINT and SIGTERM (they ask for the end: window.close), SIGTSTP and SIGCONT,
 * SIGWINCH, and the signals of a crash, and puts the terminal back as it was.
 *   device         a path; NULL: the controlling terminal
 *   view_width, view_height  what the whole terminal is in view units; 0: its
 *                  columns and rows
 *   hold_ns        how long a key counts as held after its last byte, since
 *                  terminals send no releases (0: 120 ms)
 *   escape_ns      how long a lone escape waits for more (0: 50 ms)
 *   whole_screen   the program draws on the other screen that terminals have,
 *                  which is left, and colours with it, whenever the terminal is
 *                  put back
 */
typedef struct ikv_terminal_config {
    uint32_t size;
    float view_width, view_height;
    bool whole_screen;
    uint8_t reserved[3];
    const char *device;
    IKV_ALIGNED(8) uint64_t hold_ns;
    IKV_ALIGNED(8) uint64_t escape_ns;
} ikv_terminal_config;

#define IKV_TERMINAL_INIT IKV_SIZED(ikv_terminal_config)

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, NO_MEMORY, BUSY (there is one
 * already), or PORT_FAILED with a message: there is no terminal.
 * Context: any thread; allocates. */
IKV_API ikv_status ikv_terminal_open(const ikv_terminal_config *config,
                                     ikv_port *port, ikv_message *message);

/* Context: when the loop is closed. */
IKV_API void ikv_terminal_close(ikv_port *port);

#ifdef __cplusplus
}
#endif

#endif
