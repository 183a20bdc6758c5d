# The steps that a page shows of a plan, in order: what each hangs on, what it shows, a few words on how it came out.

# title: heading; hangs_on: parts of the plan its answer is made of; able: function(plan), is there anything to make?
# section, verdict: functions of parts, what a report would show and a few words; help: verbs whose help explains the
# numbers; sealed: does it show outcomes under treatment?
new_step_view <- function(title, hangs_on, section, verdict, help, able = function(plan) TRUE, sealed = FALSE) {
  list(title = title, hangs_on = hangs_on, section = section, verdict = verdict, help = help, able = able,
       sealed = sealed)
}

plan_step_views <- function(plan) {
  if (is_panel_plan(plan)) panel_step_views() else if (is_other_plan(plan)) other_step_views() else study_step_views()
}

has_part <- function(part) function(plan) length(plan[[part]]) > 0L

study_step_views <- function() {
  list(
    question = new_step_view(
      "Question and groups", "study", function(parts) question_section(parts),
      help = c("frame_study", "describe_groups"),
      verdict = function(parts) {
        sizes <- study_sizes(parts$study)
        if (!is.null(parts$study$arms)) return(plural(length(parts$study$arms), "arm"))
        sprintf("%s treated, %s control", count_text(sizes[["treated"]]), count_text(sizes[["control"]]))
      }
    ),
    assumptions = new_step_view(
      "Assumptions", c("study", "effects"), function(parts) graph_section(parts), function(parts) graph_verdict(parts),
      help = c("assume_graph", "sets_to_adjust", "explain_set", "testable_claims"),
      able = function(plan) !is.null(plan$study$graph)
    ),
    score = new_step_view(
      "Score and overlap", c("study", "designs"), function(parts) score_section(parts),
      function(parts) if (has_scores(parts)) "drawn" else "no score", able = has_part("designs"),
      help = c("score_units", "assess_overlap", "assess_score", "trim_units")
    ),
    designs = new_step_view(
      "Designs", c("study", "designs", "report"), function(parts) balance_section(parts), able = has_part("designs"),
      help = c("assess_balance", "pair_units", "group_units", "stratify_units", "weigh_units"),
      verdict = function(parts) balanced_verdict(parts)
    ),
    power = new_step_view(
      "Power", c("study", "designs", "power"), function(parts) power_section(parts), able = has_part("power"),
      verdict = function(parts) plural(length(parts$powers), "design"), help = "assess_power"
    ),
    effects = new_step_view(
      "Effects", c("study", "designs", "effects", "report"), function(parts) effects_section(parts),
      function(parts) plural(length(parts$effects), "estimate"), able = has_part("effects"), sealed = TRUE,
      help = c("measure_effect", "compare_effects")
    ),
    variation = new_step_view(
      "Who gains", c("study", "designs", "effects", "variation"), function(parts) variation_section(parts),
      able = function(plan) length(plan$effects) > 0L && has_part("variation")(plan), sealed = TRUE,
      verdict = function(parts) gains_verdict(parts$variations), help = "measure_variation"
    ),
    bias = bias_view(c("study", "designs", "effects", "probes"))
  )
}

balanced_verdict <- function(parts) {
  failed <- unbalanced(parts$balances)
  sprintf("%d of %s balanced", length(parts$balances) - length(failed), plural(length(parts$balances), "design"))
}

panel_step_views <- function() {
  opened <- function(part) function(plan) length(plan$effects) > 0L && has_part(part)(plan)
  list(
    question = new_step_view(
      "Question and timing", "panel", function(parts) panel_opening_section(parts),
      function(parts) panel_verdict(parts$panel), help = "frame_panel"
    ),
    trends = new_step_view(
      "Before treatment", c("panel", "baseline", "designs", "trends"), function(parts) trends_section(parts),
      able = has_part("trends"),
      verdict = function(parts) if (is.null(parts$trends)) "not judged" else trends_words(parts$trends),
      help = "assess_trends"
    ),
    effects = new_step_view(
      "Effects", c("panel", "baseline", "designs", "effects", "report"), function(parts) opened_panel_section(parts),
      function(parts) plural(length(parts$effects), "estimate"), able = has_part("effects"), sealed = TRUE,
      help = c("measure_did", "summarise_did", "compare_effects")
    ),
    decomposition = new_step_view(
      "The two-way number taken apart", c("panel", "decompose", "effects"), able = opened("decompose"), sealed = TRUE,
      section = function(parts) decomposition_section(parts), help = "decompose_did",
      verdict = function(parts) if (is.null(parts$decomposition)) "not made" else "taken apart"
    ),
    bias = bias_view(c("panel", "baseline", "designs", "effects", "probes"))
  )
}

bias_view <- function(hangs_on) {
  new_step_view(
    "Hidden bias", hangs_on, function(parts) bias_section(parts), able = has_part("probes"), sealed = TRUE,
    verdict = function(parts) {
      if (length(parts$probes) == 0L) "none chosen" else plural(length(parts$probes), "probe")
    }, help = unique(vapply(probes, `[[`, "", "verb"))
  )
}

# What the words and numbers of a step mean: HTML of the help pages behind it, without usage and links.
step_help <- function(step) {
  parts <- unlist(lapply(step$help, function(verb) {
    text <- help_html(verb)
    shown <- if (verb == step$help[1L]) " open" else ""
    if (nzchar(text)) sprintf("<details%s><summary><code>%s()</code></summary>%s</details>", shown, verb, text)
  }))
  paste(parts, collapse = "\n")
}

# The description, details and value of a help page as HTML; "" where there are no help pages.
help_html <- function(verb) {
  page <- help_pages()[[paste0(verb, ".Rd")]]
  if (is.null(page)) return("")
  file <- tempfile()
  on.exit(unlink(file))
  suppressWarnings(tools::Rd2HTML(page, file, package = "carefultwin", dynamic = FALSE))
  html <- paste(readLines(file, encoding = "UTF-8"), collapse = "\n")
  sections <- strsplit(html, "<h3>", fixed = TRUE)[[1L]][-1L]
  kept <- grep("^(Description|Details|Value|References)", sections, value = TRUE)
  kept <- gsub(" style=\"white-space: pre;\"", "", kept, fixed = TRUE)  # lines may break
  kept <- sub("<hr ?/?><div.*$|</body>.*$|</main>.*$", "", gsub("</?a( [^>]*)?>", "", kept))
  paste0("<h3>", kept, collapse = "\n")
}

# For controls: a graph's drawing, and the estimators over time.
plan_sketch <- function(graph, adjusted) graph_sketch(graph, adjusted)

path_kinds <- function(doses = FALSE) {
  list(choices = path_estimators(doses), single = c(single_number_estimators(), "dose"))
}
