// rtree.cc - Boost.Geometry's R-tree as a baseline, behind plain functions.
#include <boost/function_output_iterator.hpp>
#include <boost/geometry.hpp>
#include <boost/geometry/index/rtree.hpp>

#include <cstdint>
#include <vector>

#include "rtree.h"

namespace bg = boost::geometry;
namespace bgi = boost::geometry::index;

using point = bg::model::point<float, 2, bg::cs::cartesian>;
using box = bg::model::box<point>;
using entry = std::pair<box, uint32_t>;

struct rtree {
    bgi::rtree<entry, bgi::quadratic<16>> tree;
};

static entry entry_of(const float b[4], uint32_t id)
{
    return {box(point(b[0], b[1]), point(b[2], b[3])), id};
}

rtree *rtree_open(const float (*boxes)[4], uint32_t count)
{
    std::vector<entry> entries;
    for (uint32_t i = 0; i < count; i++)
        entries.push_back(entry_of(boxes[i], i));
    auto *t = new rtree;
    t->tree = decltype(t->tree)(entries.begin(), entries.end());
    return t;
}

void rtree_close(rtree *t)
{
    delete t;
}

uint32_t rtree_pick(const rtree *t, float x, float y)
{
    uint32_t best = UINT32_MAX;
    t->tree.query(bgi::intersects(point(x, y)),
                  boost::make_function_output_iterator([&](const entry &e) {
                      if (best == UINT32_MAX || e.second > best)
                          best = e.second;
                  }));
    return best;
}

void rtree_pairs(const rtree *t, const float (*boxes)[4], uint32_t count,
                 void (*found)(void *user, uint32_t a, uint32_t b), void *user)
{
    for (uint32_t i = 0; i < count; i++) {
        box b(point(boxes[i][0], boxes[i][1]), point(boxes[i][2], boxes[i][3]));
        t->tree.query(bgi::intersects(b),
                      boost::make_function_output_iterator([&](const entry &e) {
                          if (e.second > i)
                              found(user, i, e.second);
                      }));
    }
}
