# The register of estimands: for whom an effect is wanted (Methods, "Notation"). Adding one is adding its entry here;
# verbs, weights, prints and plans ask the entry.

# words: whom the effect is about, to follow "for"; of_arms: the same of contrasts of several arms; short: for the
# comment of a drafted plan, NULL for none.
# population: "everybody", "treated" or "control" where everyone is known to belong to it or not; "score" where each
# unit belongs by the tilt alone. tilt, slope: h(e) and its derivative, functions of the score. arms: of several arms, a
# function of their scores (n x K) and of the arm compared that gives list(h, slope), slope being the derivatives of log
# h in the linear scores (n x (K - 1)); NULL where there is no such form. own_likelihood: does the logit's likelihood
# balance the means of this population?
new_estimand <- function(words, population, tilt, slope, arms = NULL, of_arms = words, short = NULL,
                         own_likelihood = FALSE) {
  stopifnot(population %in% c("everybody", "treated", "control", "score"), is.function(tilt), is.function(slope))
  list(words = words, population = population, tilt = tilt, slope = slope, arms = arms, of_arms = of_arms,
       short = short, own_likelihood = own_likelihood)
}

estimands <- list(
  ATT = new_estimand(
    "those who were treated", "treated", short = "on the treated", of_arms = "those in the arm compared",
    tilt = function(e) e, slope = function(e) rep(1, length(e)),
    arms = function(e, k) list(h = e[, k], slope = arm_log_slope(e, k))
  ),
  ATE = new_estimand(
    "everybody", "everybody", short = "on everybody",
    tilt = function(e) rep(1, length(e)), slope = function(e) numeric(length(e)),
    arms = function(e, k) list(h = rep(1, nrow(e)), slope = 0)
  ),
  ATC = new_estimand(
    "those who were not treated", "control", of_arms = "those in the reference",
    tilt = function(e) 1 - e, slope = function(e) rep(-1, length(e)),
    arms = function(e, k) list(h = e[, 1L], slope = arm_log_slope(e, 1L))
  ),
  # of several arms: Li & Li (2019)
  ATO = new_estimand(
    "those whose treatment could well have been either", "score", own_likelihood = TRUE,
    of_arms = "those whose treatment could well have been any",
    tilt = function(e) e * (1 - e), slope = function(e) 1 - 2 * e,
    arms = function(e, k) {
      h <- 1 / rowSums(1 / e)
      list(h = h, slope = h * Reduce(`+`, lapply(seq_len(ncol(e)), function(m) arm_log_slope(e, m) / e[, m])))
    }
  ),
  # the derivative at e = 1/2 is that of the lower branch
  ATM = new_estimand(
    "those whom one-to-one pairing would keep", "score", of_arms = "those whom matching one of each arm would keep",
    tilt = function(e) pmin(e, 1 - e), slope = function(e) ifelse(e > 0.5, -1, 1),
    arms = function(e, k) {
      least <- max.col(-e, ties.method = "first")
      list(h = e[cbind(seq_len(nrow(e)), least)], slope = arm_log_slope(e, least))
    }
  )
)

population_of <- function(estimand) estimands[[estimand]]$population

# Names of the estimands whose population is one of those given.
estimands_for <- function(populations) {
  names(Filter(function(entry) entry$population %in% populations, estimands))
}

known_population_estimands <- function() estimands_for(c("treated", "control", "everybody"))

# Can everyone be said to belong to the population or not, whatever the score?
has_known_population <- function(estimand) population_of(estimand) != "score"

# Arms (1 treated, 0 control) that the population is made of, whose units look for partners in the other.
seeking_arms <- function(estimand) switch(population_of(estimand), treated = 1L, control = 0L, c(1L, 0L))

# The arm whose sd standardizes differences: Methods, "Balance".
reference_arm <- function(estimand) {
  switch(population_of(estimand), treated = "treated", control = "control", "pooled")
}
