/* page.h - what each page of `ikvar view` has in it, from page/ and third_party/:
 * cmake/embed.cmake makes the source of these. */
#ifndef IKV_PAGE_H
#define IKV_PAGE_H

#include <stddef.h>

typedef struct page_part {
    const unsigned char *text;
    size_t size;
    const char *hash; /* "sha256-...", for the page's policy */
} page_part;

extern const page_part page_body, page_css, page_js;
/* The charts' code, which is not ours. */
extern const page_part page_chart_css, page_chart_js, page_chart_licence;

#endif
