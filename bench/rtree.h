/* rtree.h - a general R-tree, built for the benchmarks alone. */
#ifndef IKV_BENCH_RTREE_H
#define IKV_BENCH_RTREE_H

#include <stdint.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct rtree rtree;
rtree *rtree_open(const float (*boxes)[4], uint32_t count);
void rtree_close(rtree *tree);
/* The greatest number of a box that holds the point, UINT32_MAX if none. */
uint32_t rtree_pick(const rtree *tree, float x, float y);

/* Each pair of boxes that meet, once. */
void rtree_pairs(const rtree *tree, const float (*boxes)[4], uint32_t count,
                 void (*found)(void *user, uint32_t a, uint32_t b), void *user);

#ifdef __cplusplus
}
#endif

#endif
