// The least total cost of giving every row a column of its own, on a sparse graph whose edges come on demand: shortest
// augmenting paths (Jonker & Volgenant 1987) over lists that are lengthened exactly when an edge not yet listed could
// shorten the path at hand. Every such edge costs at least the list's bound, and prices of columns are at most 0, so
// the optimum found is that of the full graph.
//
// Lists: edges(list) gives what is known (column, cost); bound(list) the least that an edge not yet listed may cost
// (infinite when there is none); extend(list) lists more; lowest(list) a lower bound of all its edges' costs. A row
// that may stay without a column pays its `skip` then.
#pragma once
#include <Eigen/Core>
#include <cmath>
#include <functional>
#include <limits>
#include <queue>
#include <stdexcept>
#include <tuple>
#include <utility>
#include <vector>

namespace twin {
struct Edge {
  int column;
  double cost;
};

template <class Lists>
class Assignment {
 public:
  Assignment(Lists& lists, int columns)
      : lists_(lists),
        price_(columns, 0.0),
        row_of_(columns, -1),
        distance_(columns, kFar),
        from_(columns, -1),
        settled_(columns, 0) {}

  // Rows of one list are alike: copies of one unit that seeks several partners.
  int add_row(int list, double skip) {
    list_of_.push_back(list);
    skip_.push_back(skip);
    value_.push_back(lists_.lowest(list));
    column_of_.push_back(-1);
    return static_cast<int>(list_of_.size()) - 1;
  }
  int column_of(int row) const { return column_of_[row]; }  // -1: none
  int row_of(int column) const { return row_of_[column]; }
  double price(int column) const { return price_[column]; }  // at most 0
  double value(int row) const { return value_[row]; }
  void must_have(int row) { skip_[row] = kFar; }

  // Serves the rows from `first` on; tell(share) after every so many.
  void solve(int first, const std::function<void(double)>& tell) {
    const int rows = static_cast<int>(list_of_.size());
    std::vector<int> waiting;
    for (int row = first; row < rows; ++row) waiting.push_back(row);
    for (int round = 0; round < 2 && !waiting.empty(); ++round) waiting = bid(waiting);
    Eigen::Index done = 0;
    for (const int row : waiting) {
      augment(row);
      if (++done % 256 == 0) tell(static_cast<double>(done) / static_cast<double>(waiting.size()));
    }
  }

 private:
  static constexpr double kFar = std::numeric_limits<double>::infinity();

  // Each row takes its best column at a price that leaves it as well off as with its second best, and sends away who
  // was there. Returns the rows left without.
  std::vector<int> bid(const std::vector<int>& rows) {
    std::vector<int> left;
    for (int row : rows) {
      for (int turns = 0;; ++turns) {
        int best = -1;
        double least = kFar, second = kFar;
        while (true) {
          best = -1;
          least = second = kFar;
          for (const Edge& edge : lists_.edges(list_of_[row])) {
            const double cost = edge.cost - price_[edge.column];
            if (cost < least || (cost == least && best >= 0 && row_of_[best] >= 0 && row_of_[edge.column] < 0)) {
              second = least;
              least = cost;
              best = edge.column;
            } else if (cost < second) {
              second = cost;
            }
          }
          if (lists_.bound(list_of_[row]) >= second || !lists_.extend(list_of_[row])) break;
        }
        second = std::min(second, skip_[row]);
        if (best < 0 || skip_[row] <= least || std::isinf(second)) {
          left.push_back(row);
          break;
        }
        const int displaced = row_of_[best];
        if (displaced >= 0 && (second <= least || turns > 64)) {  // a tie: no price settles it
          left.push_back(row);
          break;
        }
        value_[row] = second;
        // a free column keeps its price of 0: the row is then as well off as it can be
        if (displaced < 0 && price_[best] == 0)
          value_[row] = least;
        else
          price_[best] -= second - least;
        row_of_[best] = row;
        column_of_[row] = best;
        if (displaced < 0) break;
        column_of_[displaced] = -1;
        row = displaced;
      }
    }
    return left;
  }

  struct Event {
    double distance;
    int kind;  // 0: a column is reached, 1: a row's list may hold something nearer, 2: a row may stay without
    int id;
    bool operator>(const Event& other) const {
      return std::tie(distance, kind, id) > std::tie(other.distance, other.kind, other.id);
    }
  };
  using Events = std::priority_queue<Event, std::vector<Event>, std::greater<Event>>;

  void relax(int row, std::size_t first, Events& events) {
    const auto& edges = lists_.edges(list_of_[row]);
    const double at = row_distance(row);
    for (std::size_t k = first; k < edges.size(); ++k) {
      const int column = edges[k].column;
      if (settled_[column]) continue;
      const double distance = std::max(at, at + edges[k].cost - value_[row] - price_[column]);
      if (distance >= distance_[column]) continue;
      if (distance_[column] == kFar) touched_.push_back(column);
      distance_[column] = distance;
      from_[column] = row;
      events.push({distance, 0, column});
    }
    const double bound = lists_.bound(list_of_[row]);
    if (bound < kFar) events.push({std::max(at, at + bound - value_[row]), 1, row});
  }
  double row_distance(int row) const { return column_of_[row] < 0 ? 0.0 : distance_[column_of_[row]]; }

  void enter(int row, Events& events) {
    scanned_.push_back(row);
    relax(row, 0, events);
    if (skip_[row] < kFar) {
      const double at = row_distance(row);
      events.push({std::max(at, at + skip_[row] - value_[row]), 2, row});
    }
  }

  void augment(int start) {
    Events events;
    touched_.clear();
    scanned_.clear();
    enter(start, events);
    int column = -1, leaver = -1;
    double reached = 0;
    while (!events.empty() && leaver < 0) {
      const Event event = events.top();
      events.pop();
      if (event.kind == 1) {
        const std::size_t known = lists_.edges(list_of_[event.id]).size();
        if (lists_.extend(list_of_[event.id])) relax(event.id, known, events);
        continue;
      }
      if (event.kind == 2) {
        leaver = event.id;
        reached = event.distance;
        break;
      }
      if (settled_[event.id] || event.distance > distance_[event.id]) continue;
      settled_[event.id] = 1;
      if (row_of_[event.id] < 0) {
        column = event.id;
        reached = event.distance;
        break;
      }
      enter(row_of_[event.id], events);
    }
    if (column >= 0 || leaver >= 0) {
      for (const int row : scanned_) value_[row] += reached - row_distance(row);
      for (const int at : touched_)
        if (settled_[at]) price_[at] += std::min(0.0, distance_[at] - reached);
      if (leaver >= 0) {
        column = column_of_[leaver];
        column_of_[leaver] = -1;
      }
      while (column >= 0) {  // along the path back to the start, which had none
        const int row = from_[column];
        row_of_[column] = row;
        std::swap(column_of_[row], column);
      }
    }
    for (const int at : touched_) {
      distance_[at] = kFar;
      settled_[at] = 0;
    }
  }

  Lists& lists_;
  std::vector<int> list_of_, column_of_;
  std::vector<double> skip_, value_;
  std::vector<double> price_;
  std::vector<int> row_of_;
  std::vector<double> distance_;
  std::vector<int> from_;
  std::vector<char> settled_;
  std::vector<int> touched_, scanned_;
};
}  // namespace twin
