/* options.c - the command's options: a table for each command, read by
 * getopt_long(), which needs no memory. */
#define _GNU_SOURCE
#include "tool.h"

#include <getopt.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

enum {
    OPTIONS = 24,
    HELP = 1000,
    COLUMN = 24 /* where descriptions begin */
};

static const option_row help_row = {"help", 'h',         OPTION_FLAG, NULL,
                                    NULL,   "show this", 0,           0};

static size_t count_rows(const option_row *rows)
{
    size_t count = 0;
    while (rows[count].name != NULL)
        count++;
    return count;
}

static void print_row(const option_row *row)
{
    char form[64];
    int used = row->letter != '\0'
                   ? snprintf(form, sizeof form, "  -%c, ", row->letter)
                   : snprintf(form, sizeof form, "      ");
    snprintf(form + used, sizeof form - (size_t)used, "--%s%s%s", row->name,
             row->value != NULL ? "=" : "",
             row->value != NULL ? row->value : "");
    if (strlen(form) + 2 > COLUMN)
        printf("%s\n%*s", form, COLUMN, "");
    else
        printf("%-*s", COLUMN, form);
    for (const char *text = row->does; *text != '\0';) {
        int length = (int)strcspn(text, "\n");
        printf("%.*s\n", length, text);
        text += length + (text[length] == '\n');
        if (*text != '\0')
            printf("%*s", COLUMN, "");
    }
}

static void print_usage(const char *usage, const option_row *rows)
{
    printf("Usage: ikvar %s\n\n", usage);
    for (size_t i = 0; rows[i].name != NULL; i++)
        print_row(&rows[i]);
    print_row(&help_row);
}

static bool refuse(const char *command, const option_row *row,
                   const char *expected, const char *found)
{
    char shown[160];
    fprintf(stderr, "ikvar %s: --%s: expected %s, found \"%s\"\n", command,
            row->name, expected, ikv_shown_text(found, shown, sizeof shown));
    return false;
}

/* A number's range, for messages: whole ones without an exponent. */
static bool take_number(const char *command, const option_row *row,
                        const char *text)
{
    char expected[96];
    char *end;
    double value = strtod(text, &end);
    bool whole = row->type == OPTION_WHOLE;
    if (end == text || *end != '\0' || !(value >= row->least) ||
        !(value <= row->most) || (whole && value != floor(value))) {
        snprintf(expected, sizeof expected, "a %snumber from %.10g to %.10g",
                 whole ? "whole " : "", row->least, row->most);
        return refuse(command, row, expected, text);
    }
    if (whole)
        *(int *)row->to = (int)value;
    else
        *(double *)row->to = value;
    return true;
}

static bool take_value(const char *command, const option_row *row,
                       const char *text)
{
    if (row->type == OPTION_FLAG)
        *(bool *)row->to = true;
    else if (row->type == OPTION_TEXT)
        *(const char **)row->to = text;
    else
        return take_number(command, row, text);
    return true;
}

/* What getopt_long() did not know: an option's name, or a letter. */
static void say_unknown(const char *command, const option_row *rows,
                        char *const *argv, int letter, int at)
{
    const char *known[OPTIONS + 2], *near = NULL;
    char name[64], option[72], shown[160], hint[IKV_HINT_BYTES];
    size_t count = 0;
    for (; rows[count].name != NULL; count++)
        known[count] = rows[count].name;
    known[count++] = help_row.name;
    known[count] = NULL;
    if (letter != 0) {
        snprintf(option, sizeof option, "-%c", letter);
    } else {
        snprintf(name, sizeof name, "%.*s", (int)strcspn(argv[at] + 2, "="),
                 argv[at] + 2);
        snprintf(option, sizeof option, "--%s", name);
        near = ikv_nearest_name(name, known);
    }
    ikv_shown_text(option, shown, sizeof shown);
    snprintf(option, sizeof option, "--%s", near != NULL ? near : "");
    fprintf(stderr, "ikvar %s: %s: unknown option%s\n", command, shown,
            ikv_did_you_mean(near != NULL ? option : NULL, hint, sizeof hint));
}

bool parse_options(int argc, char **argv, const option_row *rows,
                   const char *usage, arguments *left, int *code)
{
    struct option options[OPTIONS + 2] = {{0}};
    char letters[2 * OPTIONS + 4] = ":h";
    size_t used = strlen(letters), count = count_rows(rows);
    for (size_t i = 0; i < count; i++) {
        int needs =
            rows[i].type == OPTION_FLAG ? no_argument : required_argument;
        options[i] =
            (struct option){rows[i].name, needs, NULL, (int)i + HELP + 1};
        if (rows[i].letter != '\0') {
            letters[used++] = rows[i].letter;
            if (needs == required_argument)
                letters[used++] = ':';
        }
    }
    letters[used] = '\0';
    options[count] = (struct option){"help", no_argument, NULL, HELP};
    *code = WRONG_USE;
    opterr = 0;
    optind = 1;
    for (int got;
         (got = getopt_long(argc, argv, letters, options, NULL)) != -1;) {
        size_t at = got > HELP ? (size_t)got - HELP - 1 : 0;
        while (got < HELP && at < count && rows[at].letter != got)
            at++;
        if (got == HELP || got == 'h') {
            print_usage(usage, rows);
            *code = FINE;
            return false;
        }
        if (got == ':') {
            fprintf(stderr, "ikvar %s: %s: its value is missing\n", argv[0],
                    argv[optind - 1]);
            return false;
        }
        if (got == '?') {
            say_unknown(argv[0], rows, argv, optopt < HELP ? optopt : 0,
                        optind - 1);
            return false;
        }
        if (!take_value(argv[0], &rows[at], optarg))
            return false;
    }
    *left = (arguments){argv + optind, argc - optind};
    *code = FINE;
    return true;
}

const char *next_argument(arguments *left)
{
    if (left->count == 0)
        return NULL;
    left->count--;
    return *left->list++;
}
