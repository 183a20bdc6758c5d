# What a choice on the page changes: the plan, and nothing else. Each function takes a plan (a list as read_plan() gives
# it) and returns one.

# The kinds of designs that the page can add. words: for the choice; fields: list(id, words, kind: "number", "text" or a
# vector of choices, value: to begin with); steps: function of their values giving the steps of the plan.
score_fields <- list(
  link = list(words = "Score", value = "logit",
              kind = c(logit = "logit", probit = "probit", "log-log" = "cloglog",
                       "learned: logit, splines and a tree, stacked" = "learners")),
  terms = list(words = "Terms", kind = c("covariates as they are" = "none", "searched by ladder" = "ladder"),
               value = "none"),
  model = list(words = "Own terms, as ~ a + log(b)", kind = "text", value = ""),
  trim = list(words = "Trim", value = "none",
              kind = c("no one" = "none", "outside common support" = "common_support",
                       "scores below 0.1, above 0.9" = "range", "for least variance" = "least_variance"))
)

score_steps <- function(values) {
  link <- switch(values$link, logit = NULL, learners = list(learners = list("logit", "splines", "tree")),
                 values["link"])
  settings <- c(link, if (values$terms != "none") list(select = values$terms),
                if (nzchar(values$model)) list(model = values$model))
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

# Those of a question on a dose or on treatment over time.
other_designs <- list(
  dose = list(
    weights = list(words = "Inverse weights by a density", fields = list(
      density = list(words = "Density", value = "normal", kind = c(normal = "normal", splines = "splines",
                                                                  kernel = "kernel"))
    ), steps = function(values) list(list(score = list(density = values$density)), "weigh")),
    entropy = list(words = "Entropy weights", fields = list(), steps = function(values) {
      list(list(weigh = list(method = "entropy")))
    })
  ),
  course = list(weights = list(words = "Running weights", fields = list(
    lags = number_field("Periods back in the scores", 1, 0, 10, 1)
  ), steps = function(values) list(list(score = list(lags = values$lags)), "weigh")))
)

page_designs <- function(plan) {
  if (is_dose_plan(plan)) other_designs$dose else if (is_course_plan(plan)) other_designs$course else desk_designs
}

# With what it could detect. values: text or numbers by field; what is left out or unreadable is as it begins.
add_design <- function(plan, kind, values = list()) {
  entry <- page_designs(plan)[[kind]]
  values <- lapply(stats::setNames(nm = names(entry$fields)), function(id) {
    field_value(entry$fields[[id]], values[[id]])
  })
  name <- new_name(names(plan$designs), kind)
  plan$designs[[name]] <- entry$steps(values)
  if (!is_other_plan(plan)) plan$power[[new_name(names(plan$power), name)]] <- list(design = name)
  plan
}

# The kind of a design and the values of its fields, by which the page could have made it: list(kind, values, cut: a
# range of scores set by hand). NULL for one with other steps.
known_design <- function(steps, kinds = desk_designs) {
  named <- lapply(steps, function(step) if (is.character(step)) stats::setNames(list(list()), step) else step)
  by_hand <- vapply(named, function(step) {
    identical(step$trim$rule, "range") && !isTRUE(all.equal(as.numeric(unlist(step$trim$bounds)), c(0.1, 0.9)))
  }, NA)
  flat <- unlist(named[!by_hand], recursive = FALSE)
  score <- flat$score
  given <- list(
    link = if (is.null(score[["learners"]])) score$link else "learners", terms = score$select, model = score$model,
    trim = flat$trim$rule, caliper = flat$pair$caliper, ratio = flat$pair$ratio, strata = flat$stratify$strata,
    bound = flat$weigh$truncate$bound, density = score$density, lags = score$lags
  )
  same <- function(a, b) identical(yaml::as.yaml(a, precision = 15L), yaml::as.yaml(b, precision = 15L))
  for (kind in names(kinds)) {
    fields <- kinds[[kind]]$fields
    values <- lapply(stats::setNames(nm = names(fields)), function(id) field_value(fields[[id]], given[[id]]))
    if (same(kinds[[kind]]$steps(values), steps[!by_hand])) {
      return(list(kind = kind, values = values, cut = steps[by_hand]))
    }
  }
}

# Another value of one field of a design that the page could have made.
change_design <- function(plan, name, id, value) {
  kinds <- page_designs(plan)
  known <- known_design(plan$designs[[name]], kinds)
  field <- if (!is.null(known)) kinds[[known$kind]]$fields[[id]]
  if (is.null(field)) return(plan)
  known$values[[id]] <- field_value(field, value)
  steps <- kinds[[known$kind]]$steps(known$values)
  keeps_cut <- identical(known$values$trim, "none")  # a rule takes its place
  plan$designs[[name]] <- if (keeps_cut) append(steps, known$cut, 1L) else steps
  plan
}

# Numbers of a column taken as codes of categories, or not; labels: text such as "1 = wood, 2 = coal", "" for none.
set_codes <- function(plan, name, on, labels = "") {
  before <- plan_question(plan)$categories
  known <- if (is.null(names(before))) stats::setNames(vector("list", length(before)), unlist(before)) else before
  known <- known[setdiff(names(known), name)]
  if (on) known <- c(known, stats::setNames(list(code_labels(labels)), name))
  bare <- all(vapply(known, is.null, NA))
  set_question(plan, list(categories = if (bare) as.list(names(known)) else known))
}

# "1 = wood, 2 = coal" of the labels of a column, "" where there are none.
labels_text <- function(labels) {
  if (length(labels) == 0L) return("")
  paste(names(labels), "=", unlist(labels), collapse = ", ")
}

code_labels <- function(text) {
  parts <- strsplit(strsplit(text, "[,;]")[[1L]], "=", fixed = TRUE)
  parts <- Filter(function(part) length(part) == 2L && all(nzchar(trimws(part))), parts)
  if (length(parts) == 0L) return(NULL)
  stats::setNames(lapply(parts, function(part) trimws(part[2L])), vapply(parts, function(part) trimws(part[1L]), ""))
}

new_name <- function(taken, name) utils::tail(make.unique(c(taken, name), " "), 1L)

field_value <- function(field, given) {
  if (identical(field$kind, "text")) return(if (rlang::is_string(given)) trimws(given) else field$value)
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
  plan$variation <- plan$variation[!about(plan$variation)]
  drop_effects(plan, names(plan$effects)[about(plan$effects)])
}

drop_effects <- function(plan, names) {
  plan$effects <- plan$effects[setdiff(names(plan$effects), names)]
  plan$probes <- plan$probes[!vapply(plan$probes, function(settings) isTRUE(settings$effect %in% names), NA)]
  if (isTRUE(plan$report$headline %in% names)) plan$report$headline <- NULL
  if (length(plan$effects) == 0L) plan$variation <- NULL  # it would open the outcome again
  plan[lengths(plan) > 0L]
}

# A part of the plan with other settings; NULL and "" take a key away.
set_keys <- function(part, settings) {
  for (key in names(settings)) {
    value <- settings[[key]]
    part[[key]] <- if (length(value) == 0L || identical(value, "")) NULL else value
  }
  part
}

# settings: of `study` or `panel`, whichever the plan has.
set_question <- function(plan, settings) {
  part <- if (is_panel_plan(plan)) "panel" else "study"
  plan[[part]] <- set_keys(plan[[part]], settings)
  plan
}

# settings: of `report`.
set_report <- function(plan, settings) {
  plan$report <- set_keys(plan$report, settings)
  plan[lengths(plan) > 0L]
}

# A question of another kind (see question_kind()) on the same data, as the columns suggest. columns: answer_columns().
set_kind <- function(plan, kind, columns) {
  if (!kind %in% kinds_offered(columns)) return(plan)
  question <- plan_question(plan)
  data <- question[intersect(names(question), c("data", reading_keys()))]
  guessed <- switch(kind, study = guessed_study, panel = guessed_panel, dose = guessed_dose, course = guessed_course)
  guessed(data, columns)
}

# The questions that the columns allow.
kinds_offered <- function(columns) {
  kinds <- c("a unit, seen once, in one arm of a treatment" = "study", "a unit, seen once, with a dose" = "dose",
             "a unit in a period; treatment sets in" = "panel",
             "a unit in a period; treatment comes and goes" = "course")
  guesses <- c(study = "roles", dose = "dose", panel = "panel", course = "course")
  kinds[lengths(columns[guesses[kinds]]) > 0L]
}

# Of a plan that has none yet: over time where the columns look so.
likely_kind <- function(columns) {
  if (!is.null(columns$panel)) return("panel")
  if (isTRUE(columns$course$final)) return("course")
  kinds_offered(columns)[1L]
}

guessed_study <- function(data, columns) {
  roles <- columns$roles
  arms <- columns$levels[[roles$treatment]]
  several <- length(arms) > 2L
  settings <- list(treatment = roles$treatment, treated = if (!several) treated_asked(columns, roles$treatment),
                   reference = if (several) arms[1L], outcome = roles$outcome,
                   covariates = as.list(roles$covariates), estimand = "ATT", id = roles$id,
                   weight = roles$weight, cluster = roles$cluster, missing = "flag",
                   unknown = as.list(columns$stray))
  set_question(list(study = data), settings)
}

guessed_dose <- function(data, columns) {
  roles <- columns$dose
  settings <- list(dose = roles$dose, outcome = roles$outcome, covariates = as.list(roles$covariates), id = roles$id,
                   weight = roles$weight, cluster = roles$cluster, missing = "flag", unknown = as.list(columns$stray))
  set_question(list(study = data), settings)
}

guessed_course <- function(data, columns) {
  roles <- columns$course
  settings <- list(treatment = roles$treatment, treated = treated_asked(columns, roles$treatment),
                   outcome = roles$outcome, time = roles$time, unit = roles$unit,
                   covariates = as.list(roles$covariates), changing = as.list(roles$changing), weight = roles$weight,
                   missing = "flag", unknown = as.list(columns$stray))
  set_question(list(study = data), settings)
}

guessed_panel <- function(data, columns) {
  roles <- columns$panel
  settings <- list(outcome = roles$outcome, time = roles$time, unit = roles$unit, group = roles$group,
                   treatment = roles$treatment, treated = treated_asked(columns, roles$treatment),
                   first_treated = if (is.null(roles$treatment)) roles$first_treated, weight = roles$weight,
                   covariates = as.list(roles$covariates))
  complete <- if (isFALSE(roles$complete)) list(complete = TRUE) else TRUE
  c(set_question(list(panel = data), settings), list(trends = TRUE, decompose = complete))
}

# The value that a plan should name.
treated_asked <- function(columns, treatment) if (!is.null(treatment)) likely_treated(columns$levels[[treatment]])

# The causal graph of a plan, NULL where there is none. Raises what is wrong with it.
# Its ends are the treatment and the first outcome of the plan, where they are nodes.
graph_of_plan <- function(plan) {
  if (is.null(plan$study$graph)) return(NULL)
  graph <- plan_graph(plan, plan$study$graph)
  node <- function(name) if (isTRUE(name %in% rownames(graph$parents))) name
  assume_graph(as_dot(graph), exposure = node(unlist(plan$study$treatment)),
               outcome = node(unlist(plan$study$outcome)[1L]))
}

set_graph <- function(plan, graph) set_question(plan, list(graph = as_dot(graph)))

# To begin with: every column that is adjusted for causes treatment and outcome.
start_graph <- function(plan) {
  ends <- c(unlist(plan$study$treatment), unlist(plan$study$outcome)[1L])
  causes <- setdiff(unlist(plan$study$covariates), ends)
  edges <- data.frame(from = c(rep(causes, 2L), ends[1L]),
                      to = c(rep(ends, each = length(causes)), ends[2L]))
  set_graph(plan, assume_graph(edges, exposure = ends[1L], outcome = ends[2L]))
}

# An arrow put in, or taken out where it was.
toggle_arrow <- function(plan, from, to) {
  graph <- graph_of_plan(plan)
  edges <- as.data.frame(graph)
  here <- edges$from == from & edges$to == to
  set_graph(plan, changed_graph(graph, if (any(here)) edges[!here, ] else rbind(edges, data.frame(from, to))))
}

add_node <- function(plan, name, observed = TRUE) {
  graph <- graph_of_plan(plan)
  set_graph(plan, changed_graph(graph, as.data.frame(graph), more = name, unobserved = if (!observed) name))
}

drop_node <- function(plan, name) {
  graph <- graph_of_plan(plan)
  edges <- as.data.frame(graph)
  set_graph(plan, changed_graph(graph, edges[edges$from != name & edges$to != name, ], less = name))
}

# The columns of one of the sets that suffice.
take_set <- function(plan, set) set_question(plan, list(covariates = as.list(set)))

# Every design with a score keeps the scores from low to high; 0 to 1 keeps all.
cut_scores <- function(plan, low, high) {
  plan$designs <- lapply(plan$designs, function(steps) {
    verbs <- vapply(steps, function(step) if (is.character(step)) step else names(step)[1L], "")
    at <- match("score", verbs)
    if (is.na(at)) return(steps)
    cut <- if (low > 0 || high < 1) list(list(trim = list(rule = "range", bounds = list(low, high))))
    c(steps[seq_len(at)], cut, steps[setdiff(which(verbs != "trim"), seq_len(at))])
  })
  plan
}

# The deliberate act: the raw difference, and one of each design; of a panel the usual three.
unseal_plan <- function(plan) {
  if (length(plan$effects) > 0L) return(plan)
  if (is_panel_plan(plan)) {
    plan$effects <- list("two-way" = list(estimator = "two_way"), "group-time" = list(estimator = "group_time"),
                         path = list(estimator = "group_time", base = "fixed", over = "event"))
    return(plan)
  }
  if (is_other_plan(plan)) {
    plan$effects <- other_effects(plan)
    return(plan)
  }
  plan$effects <- c(list(raw = list()), lapply(stats::setNames(nm = names(plan$designs)), function(name) {
    list(design = name)
  }))
  plan
}

# Of a dose the curve as it is, and an augmented one of each design; of histories one of each.
other_effects <- function(plan) {
  own <- stats::setNames(nm = names(plan$designs))
  if (is_course_plan(plan)) return(lapply(own, function(name) list(design = name, measure = "course")))
  c(list(unadjusted = list(measure = "response")), lapply(own, function(name) {
    list(design = name, measure = "response", estimator = "augmented")
  }))
}

effect_name <- function(design, estimator) if (estimator == plan_estimator(NULL)) design else paste(design, estimator)

# The estimators asked for of one design; effects with other settings than these stay.
set_effects <- function(plan, design, chosen) {
  plain <- vapply(plan$effects, function(settings) {
    identical(settings$design, design) && length(setdiff(names(settings), c("design", "estimator"))) == 0L
  }, NA)
  of <- vapply(plan$effects, plan_estimator, "")
  plan <- drop_effects(plan, names(plan$effects)[plain & !of %in% chosen])
  for (estimator in setdiff(chosen, of[plain])) {
    settings <- c(list(design = design), if (estimator != plan_estimator(NULL)) list(estimator = estimator))
    plan$effects[[new_name(names(plan$effects), effect_name(design, estimator))]] <- settings
  }
  plan
}

chosen_estimators <- function(plan, design) {
  own <- Filter(function(settings) identical(settings$design, design), plan$effects)
  unique(vapply(own, plan_estimator, ""))
}

# What can be asked of an effect over time; of which outcome, where there are several. columns: answer_columns(), whose
# columns of a few values it can be told within.
path_fields <- function(plan, columns = NULL) {
  outcomes <- unlist(plan$panel$outcome)
  of <- list(outcome = list(words = "Outcome", kind = stats::setNames(outcomes, outcomes), value = outcomes[1L]))
  c(if (length(outcomes) > 1L) of, list(
    estimator = list(words = "Estimator", value = "group_time",
                     kind = path_kinds(doses = !is.null(plan$panel$dose))$choices),
    adjustment = list(words = "Covariates", value = "default",
                      kind = c("as the help page says" = "default", "not used" = "none", regression = "regression",
                               weights = "ipw", "both (doubly robust)" = "augmented")),
    over = list(words = "Shown", value = "all",
                kind = c("as one number" = "all", "by periods since treatment" = "event", "by cohort" = "cohort",
                         "by period" = "calendar", "as it is" = "cells")),
    by = list(words = "Within each", value = "",
              kind = plain_choices(columns_of_groups(plan, columns), "all together")),
    inference = list(words = "Errors", value = "default",
                     kind = c("as the help page says" = "default", "clusters drawn anew" = "bootstrap",
                              "timing drawn anew" = "randomization")),
    anticipation = number_field("Periods that anticipate it", 0, 0, 20, 1)
  ))
}

# Columns of a few values without a role of their own.
columns_of_groups <- function(plan, columns) {
  roles <- unlist(plan$panel[c("treatment", "first_treated", "time", "unit", "outcome", "weight", "held")])
  setdiff(columns$name[lengths(columns$levels[columns$name]) %in% 2:10], roles)
}

add_path <- function(plan, values, columns = NULL) {
  fields <- path_fields(plan, columns)
  values <- lapply(stats::setNames(nm = names(fields)), function(id) field_value(fields[[id]], values[[id]]))
  single <- values$estimator %in% path_kinds()$single
  other <- setdiff(values$outcome, unlist(plan$panel$outcome)[1L])
  settings <- c(if (length(other) > 0L) list(outcome = other), list(estimator = values$estimator),
                if (values$adjustment != "default") list(adjustment = values$adjustment),
                if (nzchar(values$by)) list(by = values$by),
                if (values$inference != "default") list(inference = values$inference),
                if (values$anticipation > 0) list(anticipation = values$anticipation),
                if (!single && values$over != "cells") list(over = values$over))
  name <- gsub("_", "-", values$estimator, fixed = TRUE)
  name <- if (single || values$over == "all") name else paste(name, if (values$over == "event") "path" else values$over)
  name <- paste(c(paste(c(name, other), collapse = " of "), if (nzchar(values$by)) values$by), collapse = " by ")
  plan$effects[[new_name(names(plan$effects), name)]] <- settings
  plan
}

# Probes that need no more than an effect, by their words.
plain_probes <- function(plan) {
  part <- if (is_panel_plan(plan)) "panel" else "study"
  known <- Filter(function(kind) part %in% probes[[kind]]$about, setdiff(names(probes), "placebo"))
  if (is_other_plan(plan)) known <- intersect(known, "ratio")  # of doses, or of histories
  stats::setNames(known, vapply(known, function(kind) probes[[kind]]$words, ""))
}

add_probe <- function(plan, kind, effect) {
  if (!kind %in% plain_probes(plan) || !effect %in% names(plan$effects)) return(plan)
  plan$probes[[new_name(names(plan$probes), paste(kind, "of", effect))]] <- list(probe = kind, effect = effect)
  plan
}

other_probes <- function(plan) {
  Filter(function(settings) !identical(settings$probe, "effect"), plan$probes)
}

drop_probe <- function(plan, name) {
  plan$probes[[name]] <- NULL
  plan[lengths(plan) > 0L]
}

# Who gains is asked by a design; questions with settings of their own stay as they are.
gains_name <- function(design) paste("who gains by", design)

asked_gains <- function(plan) {
  own <- Filter(function(settings) identical(names(settings), "design"), plan$variation)
  unlist(lapply(own, `[[`, "design"), use.names = FALSE)
}

set_gains <- function(plan, chosen) {
  plain <- vapply(plan$variation, function(settings) identical(names(settings), "design"), NA)
  by <- vapply(plan$variation, function(settings) if (is.null(settings$design)) "" else settings$design, "")
  plan$variation <- plan$variation[!plain | by %in% chosen]
  for (design in setdiff(chosen, by[plain])) {
    plan$variation[[new_name(names(plan$variation), gains_name(design))]] <- list(design = design)
  }
  plan[lengths(plan) > 0L]
}

other_gains <- function(plan) Filter(function(settings) !identical(names(settings), "design"), plan$variation)

drop_gains <- function(plan, name) {
  plan$variation[[name]] <- NULL
  plan[lengths(plan) > 0L]
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
