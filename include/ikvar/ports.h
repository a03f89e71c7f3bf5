/* ikvar/ports.h - the ports that come with the library; needs the host library.
 *
 * Overview
 *   Each port is opened into an ikv_port that a loop takes, and freed after the
 *   loop is closed:
 *
 *       ikv_port port;
 *       ikv_terminal_open(&config, &port, &message);
 *       ... a kit with that port ...
 *       ikv_kit_close(kit);
 *       ikv_terminal_free(&port);
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

/* The smallest legal port: a clock, and no events. Nothing to free. */
IKV_API ikv_port ikv_null_port(void);

/* ------------------------------------------------------------------ sim -- */

/* Plays a tape.
 *   tape       stays yours; open while the port is
 *   real_time  false: as fast as possible, on a clock that jumps ahead to what
 *              the loop waits for; true: on the machine's clock
 *   until_ns   end then even if the tape goes on; 0: with the tape
 */
typedef struct ikv_sim_config {
    uint32_t size;
    bool real_time;
    uint8_t reserved[3];
    ikv_tape *tape;
    IKV_ALIGNED(8) uint64_t until_ns;
} ikv_sim_config;

#define IKV_SIM_INIT                                                           \
    {                                                                          \
        sizeof(ikv_sim_config), false, {0, 0, 0}, 0, 0                         \
    }

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE or NO_MEMORY. */
IKV_API ikv_status ikv_sim_open(const ikv_sim_config *config, ikv_port *port);

/* Why the port failed: the tape's error. NULL while all is well. */
IKV_API const char *ikv_sim_fault(const ikv_port *port);

IKV_API void ikv_sim_free(ikv_port *port);

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
 */
typedef struct ikv_terminal_config {
    uint32_t size;
    float view_width, view_height;
    uint32_t reserved;
    const char *device;
    IKV_ALIGNED(8) uint64_t hold_ns;
    IKV_ALIGNED(8) uint64_t escape_ns;
} ikv_terminal_config;

#define IKV_TERMINAL_INIT                                                      \
    {                                                                          \
        sizeof(ikv_terminal_config), 0, 0, 0, 0, 0, 0                          \
    }

/* Returns IKV_OK, BAD_ARGUMENT, BAD_SIZE, NO_MEMORY, BUSY (there is one
 * already), or PORT_FAILED with a message: there is no terminal. */
IKV_API ikv_status ikv_terminal_open(const ikv_terminal_config *config,
                                     ikv_port *port, ikv_message *message);

IKV_API void ikv_terminal_free(ikv_port *port);

#ifdef __cplusplus
}
#endif

#endif
