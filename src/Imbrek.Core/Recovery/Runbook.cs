using System.Globalization;
using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using NodaTime;

namespace Imbrek.Core.Recovery;

/// <summary>A restore written out to take along, before anything is touched.</summary>
public static class Runbook
{
    /// <summary>The steps as Markdown.</summary>
    public static string Markdown(Fleet.Database database, RestorePath path, Instant target, Loss loss)
    {
        var text = new StringBuilder();
        Line($"# Restore {Cell(database.Name)} ({Cell(database.Id.Value)})");
        Line("");
        Line($"- Supposed loss: {Cell(loss.ToString())}");
        Line($"- Instant wanted: {Instants.Write(target)}; reached: {Instants.Write(path.Reaches)}; lost: {PlainDuration.Of(path.LostSeconds)}");
        Line($"- New instance on: {Cell(path.Host.Value)}");
        Line($"- Planned: {PlainDuration.Of(path.Seconds)} to restore, {PlainDuration.Of(path.ServiceSeconds)} until the service is back");
        Line("");
        Line("| step | what | from | seconds |");
        Line("| --- | --- | --- | --- |");
        Line($"| 1 | make an empty instance | {Cell(path.Host.Value)} | {Number(path.ProvisionSeconds)} |");
        var n = 2;
        foreach (var step in path.Steps)
        {
            var stop = step.StopsAt is { } at ? $", stop at {Instants.Write(at)}" : "";
            Line($"| {n++} | {Verb(step.Kind)} {Cell(step.Set.Value)}{stop} | {Cell(step.Store.Value)} | {Number(step.Seconds)} |");
        }

        Line($"| {n++} | open for checks only | {Cell(path.Host.Value)} | {Number(path.OpenSeconds)} |");
        Line($"| {n++} | check digest, rows and markers |  | {Number(database.CheckSeconds)} |");
        Line($"| {n++} | hold: look at it, then release or throw away |  |  |");
        Line($"| {n} | send clients to it |  | {Number(database.RedirectSeconds)} |");
        return text.ToString();

        void Line(string line) => text.Append(line).Append('\n');
    }

    /// <summary>The same as a shell script around commands that the engine's own tools stand in for.</summary>
    public static string Script(Fleet.Database database, RestorePath path, Instant target)
    {
        var text = new StringBuilder("#!/bin/sh\n# Steps by hand. provision, restore_set, apply_log, open_for_checks and check stand for the engine's own tools.\nset -eu\n");
        Line($"# {InputBounds.Quote(database.Id.Value)} to {Instants.Write(target)}, on {InputBounds.Quote(path.Host.Value)}");
        Line($"provision {ShellWord.Of(path.Host.Value)} {ShellWord.Of($"{database.Id}-restored")}");
        foreach (var step in path.Steps)
        {
            Line($"{(step.Kind == SetKind.Log ? "apply_log" : "restore_set")} {ShellWord.Of(step.Store.Value)} {ShellWord.Of(step.Set.Value)}{(step.StopsAt is { } at ? $" --stop-at {Instants.Write(at)}" : "")}");
        }

        Line("open_for_checks");
        Line("check");
        return text.ToString();

        void Line(string line) => text.Append(line).Append('\n');
    }

    /// <summary>A name as it may stand in a table: nothing in it ends the cell or the line.</summary>
    private static string Cell(string name) => InputBounds.Quote(name).Replace("|", "\\|", StringComparison.Ordinal);

    private static string Verb(SetKind kind) => kind == SetKind.Log ? "apply log" : $"restore {kind.ToString().ToLowerInvariant()}";

    private static string Number(double seconds) => seconds.ToString("0.#", CultureInfo.InvariantCulture);
}
