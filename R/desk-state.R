# What a choice on the page changes: the plan, and nothing else. Each function takes a plan (a list as read_plan() gives
# it) and returns one.

# The kinds of designs that the page can add. words: for the choice; fields: list(id, words, kind: "number" or a vector
# of choices, value: to begin with); steps: function of their values giving the steps of the plan.
score_fields <- list(
  link = list(words = "Score", kind = c(logit = "logit", probit = "probit", "log-log" = "cloglog"), value = "logit"),
  terms = list(words = "Terms", kind = c("covariates as they are" = "none", "searched by ladder" = "ladder"),
               value = "none"),
  trim = list(words = "Trim", value = "none",
              kind = c("no one" = "none", "outside common support" = "common_support",
                       "scores below 0.1, above 0.9" = "range", "for least variance" = "least_variance"))
)

score_steps <- function(values) {
  settings <- c(if (values$link != "logit") values["link"], if (values$terms != "none") list(select = values$terms))
  trimmed <- switch(values$trim, none = NULL, range = list(trim = list(rule = "range", bounds = list(0.1, 0.9))),
                    list(trim = list(rule = values$trim)))
  c(list(if (length(settings) > 0L) list(score = settings) else "score"), if (!is.null(trimmed)) list(trimmed))
}

number_field <- function(words, value, min, max, step) {
  list(words = words, kind = "number", value = value, min = min, max = max, step = step)
}

desk_designs <- list(
  pairs = list(words = "Pairs", fields = c(score_fields, list(
    caliper = number_field("Widest gap, in SDs of the score", 0.2, 0.01, 5, 0.05),
    ratio = number_field("Controls for each treated unit", 1, 1, 10, 1)
  )), steps = function(values) {
    c(score_steps(values), list(list(pair = c(list(caliper = values$caliper),
                                              if (values$ratio != 1) list(ratio = values$ratio)))))
  }),
  full = list(words = "Full matching", fields = score_fields, steps = function(values) {
    c(score_steps(values), list(list(group = list(method = "full"))))
  }),
  cells = list(words = "Cells of like units", fields = list(), steps = function(values) {
    list(list(group = list(method = "coarsened")))
  }),
  strata = list(words = "Strata of the score", fields = c(score_fields, list(
    strata = number_field("How many", 5, 2, 50, 1)
  )), steps = function(values) c(score_steps(values), list(list(stratify = list(strata = values$strata))))),
  weights = list(words = "Inverse weights", fields = c(score_fields, list(
    bound = number_field("Cut weights above (0: none)", 0, 0, 1000, 1)
  )), steps = function(values) {
    cut <- if (values$bound > 0) list(truncate = list(bound = values$bound))
    c(score_steps(values), list(list(weigh = c(list(method = "inverse"), cut))))
  }),
  entropy = list(words = "Entropy weights", fields = list(), steps = function(values) {
    list(list(weigh = list(method = "entropy")))
  })
)

# With what it could detect. values: text or numbers by field; what is left out or unreadable is as it begins.
add_design <- function(plan, kind, values = list()) {
  entry <- desk_designs[[kind]]
  values <- lapply(stats::setNames(nm = names(entry$fields)), function(id) {
    field_value(entry$fields[[id]], values[[id]])
  })
  name <- new_name(names(plan$designs), kind)
  plan$designs[[name]] <- entry$steps(values)
  plan$power[[new_name(names(plan$power), name)]] <- list(design = name)
  plan
}

new_name <- function(taken, name) utils::tail(make.unique(c(taken, name), " "), 1L)

field_value <- function(field, given) {
  if (!identical(field$kind, "number")) return(if (isTRUE(given %in% field$kind)) given else field$value)
  number <- suppressWarnings(as.numeric(given))
  if (length(number) != 1L || is.na(number)) return(field$value)
  min(max(number, field$min), field$max)
}

# With all that rests on it.
drop_design <- function(plan, name) {
  plan$designs[[name]] <- NULL
  about <- function(part) vapply(part, function(settings) identical(settings$design, name), NA)
  plan$power <- plan$power[!about(plan$power)]
  drop_effects(plan, names(plan$effects)[about(plan$effects)])
}

drop_effects <- function(plan, names) {
  plan$effects <- plan$effects[setdiff(names(plan$effects), names)]
  plan$probes <- plan$probes[!vapply(plan$probes, function(settings) isTRUE(settings$effect %in% names), NA)]
  plan[lengths(plan) > 0L]
}

# settings: of `study`; NULL and "" take a key away.
set_question <- function(plan, settings) {
  for (key in names(settings)) {
    value <- settings[[key]]
    plan$study[[key]] <- if (length(value) == 0L || identical(value, "")) NULL else value
  }
  plan
}

# The deliberate act: the raw difference, and one of each design.
unseal_plan <- function(plan) {
  if (length(plan$effects) > 0L) return(plan)
  plan$effects <- c(list(raw = list()), lapply(stats::setNames(nm = names(plan$designs)), function(name) {
    list(design = name)
  }))
  plan
}

effect_name <- function(design, estimator) if (estimator == "difference") design else paste(design, estimator)

# The estimators asked for of one design; effects with other settings than these stay.
set_effects <- function(plan, design, chosen) {
  plain <- vapply(plan$effects, function(settings) {
    identical(settings$design, design) && length(setdiff(names(settings), c("design", "estimator"))) == 0L
  }, NA)
  of <- vapply(plan$effects, function(settings) {
    if (is.null(settings$estimator)) "difference" else settings$estimator
  }, "")
  plan <- drop_effects(plan, names(plan$effects)[plain & !of %in% chosen])
  for (estimator in setdiff(chosen, of[plain])) {
    settings <- c(list(design = design), if (estimator != "difference") list(estimator = estimator))
    plan$effects[[new_name(names(plan$effects), effect_name(design, estimator))]] <- settings
  }
  plan
}

chosen_estimators <- function(plan, design) {
  own <- Filter(function(settings) identical(settings$design, design), plan$effects)
  unique(vapply(own, function(settings) if (is.null(settings$estimator)) "difference" else settings$estimator, ""))
}

probe_name <- function(effect) paste("hidden bias in", effect)

# Effects whose hidden bias is asked for, by every way that fits; other probes stay.
set_probed <- function(plan, chosen) {
  all <- vapply(plan$probes, function(settings) identical(settings$probe, "effect"), NA)
  about <- vapply(plan$probes, function(settings) if (is.null(settings$effect)) "" else settings$effect, "")
  plan$probes <- plan$probes[!all | about %in% chosen]
  for (effect in setdiff(chosen, about[all])) {
    plan$probes[[probe_name(effect)]] <- list(probe = "effect", effect = effect)
  }
  plan[lengths(plan) > 0L]
}

probed_effects <- function(plan) {
  own <- Filter(function(settings) identical(settings$probe, "effect"), plan$probes)
  unlist(lapply(own, `[[`, "effect"), use.names = FALSE)
}

# Plans with a past and a future. list(plan, past, future).
new_history <- function(plan) list(plan = plan, past = list(), future = list())

most_past <- 100L

move_on <- function(history, plan) {
  if (identical(plan, history$plan)) return(history)
  list(plan = plan, past = utils::tail(c(history$past, list(history$plan)), most_past), future = list())
}

undo <- function(history) {
  k <- length(history$past)
  if (k == 0L) return(history)
  list(plan = history$past[[k]], past = history$past[-k], future = c(list(history$plan), history$future))
}

redo <- function(history) {
  if (length(history$future) == 0L) return(history)
  list(plan = history$future[[1L]], past = c(history$past, list(history$plan)), future = history$future[-1L])
}
