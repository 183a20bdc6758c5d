# Worlds with known truth for the Monte Carlo study. Two confounders, one of them curved in what matters; effects that
# differ by unit. `overlap` scales how strongly the confounders steer treatment. A model is "right" when it has the
# square, "wrong" when it leaves it out.

# kind: "good" or "poor" overlap, or "clustered" (40 harbours that share part of treatment, outcome and covariates).
draw_world <- function(n, kind, seed) {
  withr::with_seed(seed, {
    harbour <- if (kind == "clustered") sample.int(40L, n, replace = TRUE) else seq_len(n)
    shared <- if (kind == "clustered") stats::rnorm(40L)[harbour] else 0
    luck <- if (kind == "clustered") stats::rnorm(40L, sd = 0.7)[harbour] else 0
    length <- (stats::rnorm(n) + shared) / sqrt(1 + (kind == "clustered"))
    age <- stats::runif(n, -sqrt(3), sqrt(3))
    slope <- if (kind == "poor") 1.4 else 0.6
    e <- stats::plogis(slope * (length + 0.6 * age^2 - 0.6))
    joined <- stats::rbinom(n, 1L, e)
    none <- 20 + 2 * length + 1.5 * age^2 + luck
    effect <- 2 + length
    data.frame(harbour, length, age, joined, income = none + effect * joined + stats::rnorm(n, sd = 2), effect, e)
  })
}

# The true effects, from a large draw: means of the units' own effects over each population. A crew of a random harbour
# is like one of the world without harbours.
world_truth <- function(kind, n = 1e6) {
  world <- draw_world(n, if (kind == "clustered") "good" else kind, 1L)
  mean_over <- function(h) sum(h * world$effect) / sum(h)
  c(ATE = mean_over(rep(1, n)), ATT = mean_over(world$e), ATC = mean_over(1 - world$e),
    ATO = mean_over(world$e * (1 - world$e)))
}

# Does a method's promise hold? "yes": the models it leans on are right (of doubly robust ones, one of the two);
# "nearly": matches and strata are alike but not equal, so that some bias is left; "overlap": where overlap is poor no
# method can promise much; "no".
method_holds <- function(design, estimator, estimand, uses, scenario) {
  if (length(uses) == 0L) return("no")
  if (scenario == "40 clusters" && design == "with replacement") return("no")  # they take units as independent
  broken <- c("score model wrong" = "score", "outcome model wrong" = "outcome")[scenario]
  matched <- design %in% c("pairs", "full matching", "with replacement")
  double <- length(uses) == 2L && !matched && !(estimand == "ATO" && identical(unname(broken), "score"))
  if (!double && !is.na(broken) && broken %in% uses) return("no")
  if (scenario == "poor overlap") return("overlap")
  alike <- matched || startsWith(design, "strata")
  if (alike && (estimator == "difference" || !is.na(broken))) "nearly" else "yes"
}

# The score and outcome models by scenario: "both" right, "score" wrong, "outcome" wrong.
right <- ~ length + age + I(age^2)
wrong <- ~ length + age
world_models <- function(models) {
  list(score = if (models == "score") wrong else right, outcome = if (models == "outcome") wrong else right)
}

# Every way of making a design and measuring on it: lists of design (a name of make_designs()), estimator, estimands, and
# which models it leans on.
world_methods <- function() {
  four <- c("ATE", "ATT", "ATC", "ATO")
  three <- four[1:3]
  both <- c("score", "outcome")
  method <- function(design, estimator, estimands, uses) list(design = design, estimator = estimator,
                                                              estimands = estimands, uses = uses)
  list(
    method("none", "difference", "ATE", character()),
    method("none", "regression", three, "outcome"),
    method("inverse weights", "difference", four, "score"),
    method("inverse weights", "regression", four, both),
    method("inverse weights", "augmented", four, both),
    method("inverse weights", "targeted", four, both),
    method("entropy weights", "difference", three, "score"),
    method("strata (10)", "difference", three, "score"),
    method("strata (10)", "augmented", three, both),
    method("pairs", "difference", "ATT", "score"),
    method("pairs", "regression", "ATT", both),
    method("full matching", "difference", c("ATE", "ATT"), "score"),
    method("with replacement", "difference", c("ATE", "ATT"), "score"),
    method("with replacement", "regression", c("ATE", "ATT"), both),
    method("scored", "crossfit", three, both)
  )
}

# The designs of one study, each made when first asked for.
make_designs <- function(study, models) {
  made <- new.env()
  scored <- function() made$scored
  delayedAssign("none", study, assign.env = made)
  delayedAssign("scored", score_units(study, model = models$score), assign.env = made)
  delayedAssign("inverse weights", weigh_units(scored()), assign.env = made)
  delayedAssign("entropy weights", weigh_units(study, "entropy", moments = if (identical(models$score, right)) 2 else 1),
                assign.env = made)
  delayedAssign("strata (10)", stratify_units(scored(), 10), assign.env = made)
  delayedAssign("pairs", pair_units(scored(), caliper = 0.1), assign.env = made)
  delayedAssign("full matching", group_units(scored(), "full"), assign.env = made)
  delayedAssign("with replacement", pair_units(scored(), replacement = TRUE), assign.env = made)
  made
}

measure_on <- function(design, estimator, models) {
  if (estimator == "difference") return(measure_effect(design))
  if (estimator != "crossfit") return(measure_effect(design, estimator = estimator, model = models$outcome))
  squared <- list(fit = function(x, z, weight) stats::lm.fit(cbind(1, as.matrix(x), x$age^2), z)$coefficients,
                  predict = function(model, x) drop(cbind(1, as.matrix(x), x$age^2) %*% model))
  learners <- if (identical(models$outcome, right)) list(squared = squared) else "logit"
  measure_effect(design, estimator = "crossfit", learners = learners, repeats = 1)
}

# One draw measured by every method that answers the estimand: a row each. Units that fell out shift the population of
# pairs; `own` is the mean effect of the treated that stayed.
measure_world <- function(world, kind, models, estimand, methods) {
  study <- frame_study(world, "joined", "income", c("length", "age"), estimand = estimand,
                       cluster = if (kind == "clustered") "harbour")
  models <- world_models(models)
  designs <- make_designs(study, models)
  rows <- lapply(methods, function(method) {
    if (!estimand %in% method$estimands) return(NULL)
    tryCatch(suppressWarnings({
      effect <- measure_on(designs[[method$design]], method$estimator, models)
      row <- generics::tidy(effect)
      row <- row[row$term == "difference", ]
      stayed <- effect$rows[effect$used & world$joined[effect$rows] == 1L]
      own <- if (method$design == "pairs") mean(world$effect[stayed]) else NA_real_
      data.frame(design = method$design, estimator = method$estimator, estimand, estimate = row$estimate,
                 std.error = row$std.error, conf.low = row$conf.low, conf.high = row$conf.high, own = own)
    }), twin_error = function(e) NULL)
  })
  do.call(rbind, rows)
}

# Bias, root mean squared error, coverage and the ratio of the mean standard error to the spread of the estimates.
summarise_draws <- function(draws, truth) {
  # pairs speak of those who find a partner: their mean effect over the draws
  of_pairs <- stats::ave(draws$own, draws$design, draws$estimand)
  target <- ifelse(is.na(of_pairs), truth[draws$estimand], of_pairs)
  draws$error <- draws$estimate - target
  draws$holds <- draws$conf.low <= target & target <= draws$conf.high
  by <- interaction(draws$design, draws$estimator, draws$estimand, drop = TRUE, sep = "|")
  rows <- lapply(split(draws, by), function(part) {
    data.frame(part[1L, c("design", "estimator", "estimand")], draws = nrow(part), bias = mean(part$error),
               rmse = sqrt(mean(part$error^2)), spread = stats::sd(part$error), mean_se = mean(part$std.error),
               se_ratio = mean(part$std.error) / stats::sd(part$error), coverage = mean(part$holds))
  })
  out <- do.call(rbind, rows)
  rownames(out) <- NULL
  out
}
