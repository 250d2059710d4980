using System.Globalization;
using System.Text;
using Imbrek.Core.Formats;
using Imbrek.Core.Runs;

namespace Imbrek.Core.Drills;

/// <summary>A runbook to take along: complete enough to work from when this product itself is down.</summary>
public static class RunbookText
{
    /// <summary>What it is about.</summary>
    /// <param name="Title">Its title.</param>
    /// <param name="Facts">What must be known before it is begun, each in a sentence.</param>
    /// <param name="ByHand">What a person does where the product would; null where the title of the step says it.</param>
    public sealed record About(string Title, IReadOnlyList<string> Facts, Func<Step, string?> ByHand);

    /// <summary>As Markdown with a check box a step.</summary>
    /// <param name="about">What it is about.</param>
    /// <param name="schedule">The steps in time.</param>
    public static string Markdown(About about, Schedule schedule)
    {
        var text = new StringBuilder();
        text.Append("# ").Append(Plain(about.Title)).Append("\n\n");
        foreach (var fact in about.Facts)
        {
            text.Append("- ").Append(Plain(fact)).Append('\n');
        }

        text.Append(CultureInfo.InvariantCulture, $"- In all {Seconds(schedule.Seconds)} by plan, the time of people not counted.\n\n");
        foreach (var s in schedule.Plan.Steps)
        {
            text.Append(CultureInfo.InvariantCulture, $"- [ ] **{s.Number}. {Plain(s.Title)}**{(schedule.CriticalPath.Contains(s.Number) ? " (decides the end)" : "")}  \n");
            foreach (var line in Lines(about, schedule, s))
            {
                text.Append("      ").Append(Plain(line)).Append("  \n");
            }
        }

        return text.ToString();
    }

    /// <summary>As a shell script that prints each step, waits until it was done, and keeps when that was in a file.</summary>
    /// <param name="about">What it is about.</param>
    /// <param name="schedule">The steps in time.</param>
    public static string Script(About about, Schedule schedule)
    {
        var text = new StringBuilder("#!/bin/sh\n# Prints each step and waits for an answer: Enter when it is done, s to skip it, q to stop. Needs nothing but a shell.\nset -eu\n");
        text.Append("log=${1:-runbook.log}\nsay() { printf '%s\\n' \"$1\"; printf '%s %s\\n' \"$(date -u +%Y-%m-%dT%H:%M:%SZ)\" \"$1\" >>\"$log\"; }\n");
        text.Append("step() {\n  say \"step $1: $2\"\n  shift 2\n  for line in \"$@\"; do printf '    %s\\n' \"$line\"; done\n  printf '  done? [Enter, s, q] '\n  read -r answer || answer=q\n");
        text.Append("  case $answer in q) say 'stopped'; exit 3 ;; s) say 'skipped' ;; *) say 'done' ;; esac\n}\n");
        text.Append(CultureInfo.InvariantCulture, $"say {ShellWord.Of(Plain(about.Title))}\n");
        foreach (var fact in about.Facts)
        {
            text.Append(CultureInfo.InvariantCulture, $"printf '  %s\\n' {ShellWord.Of(Plain(fact))}\n");
        }

        foreach (var s in schedule.Plan.Steps)
        {
            text.Append(CultureInfo.InvariantCulture, $"step {s.Number} {ShellWord.Of(Plain(s.Title))}");
            foreach (var line in Lines(about, schedule, s))
            {
                text.Append(" \\\n  ").Append(ShellWord.Of(Plain(line)));
            }

            text.Append('\n');
        }

        return text.Append("say 'all steps are done'\n").ToString();
    }

    private static IEnumerable<string> Lines(About about, Schedule schedule, Step s)
    {
        if (about.ByHand(s) is { } byHand)
        {
            yield return byHand;
        }

        var expected = s.ExpectedSeconds is { } e ? $"{Seconds(e)} ({s.ExpectedFrom}), from {Seconds(schedule.StartOf(s.Number))} on" : "as long as people need";
        yield return $"Who: {s.Owner}{(s.Subject is { } on ? $". On: {on}" : "")}. Takes {expected}.";
        if (s.After.Count > 0)
        {
            yield return $"Waits for {string.Join(", ", s.After)}.{(s.Only is { } only ? $" Only if {only.Hold} was decided as '{only.Choice}'." : "")}";
        }

        if (s.NeedsApproval)
        {
            yield return "A second person must agree before it begins, and write down who.";
        }

        if (s.NoWayBack)
        {
            yield return "From here on there is no turning back: until now everything can be taken back by letting the old side take writes again.";
        }
    }

    /// <summary>A text on one line, whatever is in it.</summary>
    private static string Plain(string text) => string.Concat(text.Select(c => char.IsControl(c) ? ' ' : c));

    private static string Seconds(double seconds) => $"{seconds.ToString("0.#", CultureInfo.InvariantCulture)} s";
}
