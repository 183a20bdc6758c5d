# Greedy pairs on the score: a million units, half treated, against ordering their scores once.
suppressMessages(library(carefultwin))
set.seed(1)
cpu <- function(expr) sum(system.time(expr)[c("user.self", "sys.self")])
seekers <- rnorm(5e5, 0.3)
pool <- rnorm(5e5)
sorting <- cpu(order(c(seekers, pool), method = "radix"))
for (rule in c("hardest", "easiest", "given", "closest_pair")) {
  ours <- cpu(carefultwin:::core_pair_greedy(seekers, pool, 0.2, rule))
  cat(sprintf("%-13s %.2f s, ordering %.2f s: ratio %.1f\n", rule, ours, sorting, ours / sorting))
}
