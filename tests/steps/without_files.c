/* without_files.c - the player of tests/steps on machines for which there is no
 * library that reads files: made-up runs alone. */
#include <ikvar/host.h>

#include <stdlib.h>

static void *take(void *user, size_t size, size_t alignment)
{
    (void)user;
    return aligned_alloc(alignment,
                         (size + alignment - 1) / alignment * alignment);
}

static void give(void *user, void *block, size_t size)
{
    (void)user, (void)size;
    free(block);
}

ikv_memory ikv_host_memory(void)
{
    return (ikv_memory){.take = take, .give = give};
}

ikv_status ikv_tape_open_kinds(const char *path, const ikv_catalogue *kinds,
                               ikv_tape **tape, ikv_message *message)
{
    (void)path, (void)kinds, (void)tape;
    message->text[0] = '\0';
    return IKV_BAD_FILE;
}

ikv_tape_info ikv_tape_about(const ikv_tape *tape)
{
    (void)tape;
    return (ikv_tape_info){0};
}

ikv_status ikv_tape_next(ikv_tape *tape, ikv_event *event, ikv_intake *intake,
                         ikv_message *message)
{
    (void)tape, (void)event, (void)intake, (void)message;
    return IKV_ENDED;
}

void ikv_tape_close(ikv_tape *tape)
{
    (void)tape;
}

ikv_status ikv_trace_open(void *file, ikv_kit *kit, const ikv_setup *setup,
                          uint32_t flags, ikv_trace **trace)
{
    (void)file, (void)kit, (void)setup, (void)flags, (void)trace;
    return IKV_BAD_FILE;
}

ikv_status ikv_trace_close(ikv_trace *trace)
{
    (void)trace;
    return IKV_OK;
}

ikv_status ikv_recording_open(const ikv_recording_config *config,
                              ikv_recording **recording, ikv_message *message)
{
    (void)config, (void)recording, (void)message;
    return IKV_BAD_FILE;
}

ikv_status ikv_recording_close(ikv_recording *recording, ikv_message *message)
{
    (void)recording, (void)message;
    return IKV_OK;
}
