# Weighted logit: the kernel against stats::glm.fit on the same matrix, in one run. Ratios, several times.
suppressMessages(library(carefultwin))
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])
compare <- function(n, p) {
  x <- matrix(rnorm(n * p), n)
  z <- as.double(runif(n) < stats::plogis(drop(x %*% rnorm(p, sd = 0.25))))
  ours <- vapply(1:3, function(i) cpu(fit <<- carefultwin:::glue_fit_regression(x, z, NULL, "logit", NULL)), 0)
  plain <- cpu(reference <- stats::glm.fit(cbind(1, x), z, family = stats::binomial()))
  cat(sprintf("n %g, p %d: glm.fit %.2f s, kernel %s s, ratio %.1f (median), largest coefficient gap %.1e\n", n, p,
              plain, paste(sprintf("%.3f", ours), collapse = " "), plain / stats::median(ours),
              max(abs(fit$coefficients - reference$coefficients))))
}
set.seed(1)
for (run in 1:2) compare(1e6, 20)
compare(1e5, 10)
