/* snippets.h - what the blocks of code in the README, docs/ and the headers
 * speak of without saying what it is; scripts/check-snippets compiles them. */
#include <ikvar/digest.h>
#include <ikvar/host.h>
#include <ikvar/keys.h>
#ifdef __cplusplus
#include <ikvar/ikvar.hpp>
#endif
#include <math.h>
#include <stdio.h>

#define FERRY  1u
#define GROUND 2u

extern ikv_actions *actions;
extern ikv_action_id foghorn;
extern ikv_bus *bus;
extern ikv_catalogue *catalogue;
extern ikv_kit *kit;
extern ikv_loop *loop;
extern ikv_overlaps *overlaps;
extern ikv_queue *queue;
extern ikv_router *router;
extern ikv_scene *scene;
extern ikv_canvas canvas;
extern ikv_setup *setup;
extern ikv_state *state;
extern ikv_port port;
extern ikv_query query;
extern ikv_review *review;
extern ikv_stats *stats;
extern ikv_subscription light_up;
extern ikv_why *why;
extern ikv_why_past *past;
extern ikv_why_config config;
extern ikv_input *input;
extern ikv_target lamp, target, feet, none, hit;
extern ikv_event events[64];
extern ikv_message message;
extern ikv_memory my_memory;
extern const ikv_taken *since;
extern uint32_t n, count, code;
extern uint64_t now_ns, began_ns, begin_ns, last_ns, end_ns, step;
extern void *buffer, *my_lamp, *horn;
extern float x, y, travelled;
extern bool standing, lit;

extern struct my_pair {
    ikv_target a, b;
    float point[3];
} pair;

const char *name_of(void *user, ikv_target of);
bool my_engine_next_pair(struct my_pair *to);
ikv_verdict sound(const ikv_event *, const ikv_delivery *, void *);
ikv_verdict moor(const ikv_event *, const ikv_delivery *, void *);
ikv_verdict greet(const ikv_event *, const ikv_delivery *, void *);
void show(const ikv_mistake *, void *);
void lamp_toggle(void *lamp_of_mine);
void line_to(float to_x, float to_y);
void turn(int direction, uint64_t held_ns);
void simulate(double seconds);
void draw(float blend);
