#include "kernels/metric_search.h"  // first: the build breaks if a kernel leans on R
#include <RcppEigen.h>

// task: see core_search_task(). candidates: p x m metrics of the scaled columns. Returns 2 x m: worst and mean loss.
// [[Rcpp::export(rng = false)]]
Eigen::MatrixXd glue_judge_metrics(Rcpp::List task, Rcpp::NumericMatrix candidates, int threads) {
  twin::SearchTask out;
  const Rcpp::NumericMatrix seekers = task["seekers"], pool = task["pool"];
  const Rcpp::NumericMatrix seeker_values = task["seeker_values"], pool_values = task["pool_values"];
  const Rcpp::NumericVector reference = task["reference"], seeker_weight = task["seeker_weight"],
                            pool_weight = task["pool_weight"];
  const Rcpp::IntegerVector continuous = task["continuous"], order = task["order"], group = task["group"];
  out.seekers = seekers.nrow();
  out.pool = pool.nrow();
  out.p = seekers.ncol();
  out.rows = seeker_values.ncol();
  if (pool.ncol() != out.p || candidates.nrow() != out.p) Rcpp::stop("a metric must have one weight per column");
  if (seeker_values.nrow() != out.seekers || pool_values.nrow() != out.pool || pool_values.ncol() != out.rows ||
      reference.size() != out.rows || continuous.size() != out.rows || seeker_weight.size() != out.seekers ||
      pool_weight.size() != out.pool)
    Rcpp::stop("the task's parts must fit each other");
  out.seeker_points = seekers.begin();
  out.pool_points = pool.begin();
  out.seeker_values = seeker_values.begin();
  out.pool_values = pool_values.begin();
  out.reference = reference.begin();
  out.continuous = continuous.begin();
  out.seeker_weight = seeker_weight.begin();
  out.pool_weight = pool_weight.begin();
  out.partners = Rcpp::as<int>(task["partners"]);
  out.replacement = Rcpp::as<bool>(task["replacement"]);
  out.goal = static_cast<twin::Goal>(Rcpp::as<int>(task["goal"]));
  for (const int row : order) {
    if (row < 1 || row > out.seekers) Rcpp::stop("order must hold rows of seekers");
    out.order.push_back(row - 1);
  }
  if (group.size() != 0 && group.size() != out.seekers + out.pool) Rcpp::stop("one group per unit");
  out.group.assign(group.begin(), group.end());
  Rcpp::NumericVector seeker_line, pool_line;
  if (!Rf_isNull(task["seeker_line"])) {
    seeker_line = task["seeker_line"];
    pool_line = task["pool_line"];
    if (seeker_line.size() != out.seekers || pool_line.size() != out.pool) Rcpp::stop("one score per unit");
    out.seeker_line = seeker_line.begin();
    out.pool_line = pool_line.begin();
    out.caliper = Rcpp::as<double>(task["caliper"]);
  }
  const Rcpp::IntegerMatrix sorted = task["sorted"];
  if (sorted.ncol() != out.rows || (sorted.nrow() != 0 && sorted.nrow() != out.seekers + out.pool))
    Rcpp::stop("sorted must hold every unit for every row");
  for (const int unit : sorted)
    if (unit < 0 || unit >= out.seekers + out.pool) Rcpp::stop("sorted must hold places of units");
  out.sorted = sorted.nrow() == 0 ? nullptr : sorted.begin();
  const twin::MetricJudge judge(out);
  return twin::judge_metrics(out, judge, candidates.begin(), candidates.ncol(), threads);
}
