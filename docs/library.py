# %% [markdown]
# # Indrel as a library
#
# Run `indrel demo` first: its snapshot is the newest in `indrel-runs/`, and this script queries it. Each `# %%` is a
# cell for editors that support notebooks; `python docs/library.py` runs them all.

# %%
import pandas as pd

import indrel

pd.set_option("display.width", 160, "display.max_columns", None, "display.max_colwidth", 60)
audit = indrel.open_snapshot()  # or indrel.audit("https://www.sarnfell.example/"), which crawls the site
print(audit.verdict.addresses, "addresses, complete:", audit.complete)

# %% States by section: one column per crawler
addresses = audit.addresses()
print(pd.crosstab(addresses["section"], addresses["*"]).sort_values("open", ascending=False).head(8))

# %% Wanted pages that cannot be indexed, those with the most followed links first
lost = addresses[(addresses["want"] == "show") & (addresses["*"] != "open")]
print(lost.sort_values("followed", ascending=False)[["url", "*", "status", "followed", "clicks"]].head(8))

# %% URLs whose state differs between crawlers
differ = addresses[addresses["googlebot"].astype(str) != addresses["*"].astype(str)]
print(differ[["url", "googlebot", "bingbot", "*"]].head(8))

# %% Findings, each with the line responsible
findings = audit.findings()
print(findings[findings["severity"] == "stop"][["check", "url", "where", "line", "text"]])
print(findings.groupby(["cls", "severity"]).size().unstack(fill_value=0))

# %% Causes: findings that one edit would fix
for cause in audit.causes[:5]:
    print(f"{cause.id} {cause.check} in {cause.section}, {cause.count}: {cause.mend}")

# %% One URL, step by step
explained = audit.explain("/tag/winter/")
for step in explained.steps["*"]:
    print(step.step, "->", step.outcome)

# %% Questions of the command line: each list of an answer can be a frame
print(indrel.frame(audit.causes)[["severity", "check", "count"]].head(5))
print(audit.matrix()[["purpose", "crawlers", "reads"]].head(5))
print(indrel.frame(indrel.history().runs)[["started", "complete"]])

# %% Write reports and close
audit.write("audit.xlsx", "audit.svg")
audit.close()
