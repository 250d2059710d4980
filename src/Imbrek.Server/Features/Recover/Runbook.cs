using System.Globalization;
using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;

namespace Imbrek.Server.Features.Recover;

/// <summary>A restore written out to take along, before anything is touched.</summary>
internal static class Runbook
{
    /// <summary>The steps as Markdown.</summary>
    public static string Markdown(Core.Fleet.Database database, RestorePath path, NodaTime.Instant target, Loss loss)
    {
        var text = new StringBuilder();
        Line($"# Restore {database.Name} ({database.Id})");
        Line("");
        Line($"- Supposed loss: {loss}");
        Line($"- Instant wanted: {Instants.Write(target)}; reached: {Instants.Write(path.Reaches)}; lost: {PlainDuration.Of(path.LostSeconds)}");
        Line($"- New instance on: {path.Host}");
        Line($"- Planned: {PlainDuration.Of(path.Seconds)} to restore, {PlainDuration.Of(path.ServiceSeconds)} until the service is back");
        Line("");
        Line("| step | what | from | seconds |");
        Line("| --- | --- | --- | --- |");
        Line($"| 1 | make an empty instance | {path.Host} | {Number(path.ProvisionSeconds)} |");
        var n = 2;
        foreach (var step in path.Steps)
        {
            var stop = step.StopsAt is { } at ? $", stop at {Instants.Write(at)}" : "";
            Line($"| {n++} | {Verb(step.Kind)} {step.Set}{stop} | {step.Store} | {Number(step.Seconds)} |");
        }

        Line($"| {n++} | open for checks only | {path.Host} | {Number(path.OpenSeconds)} |");
        Line($"| {n++} | check digest, rows and markers |  | {Number(database.CheckSeconds)} |");
        Line($"| {n++} | hold: look at it, then release or throw away |  |  |");
        Line($"| {n} | send clients to it |  | {Number(database.RedirectSeconds)} |");
        return text.ToString();

        void Line(string line) => text.Append(line).Append('\n');
    }

    /// <summary>The same as a shell script around commands that the engine's own tools stand in for.</summary>
    public static string Script(Core.Fleet.Database database, RestorePath path, NodaTime.Instant target)
    {
        var text = new StringBuilder("#!/bin/sh\n# Steps by hand. provision, restore_set, apply_log, open_for_checks and check stand for the engine's own tools.\nset -eu\n");
        text.Append(CultureInfo.InvariantCulture, $"# {database.Id} to {Instants.Write(target)}, on {path.Host}\nprovision {path.Host} {database.Id}-restored\n");
        foreach (var step in path.Steps)
        {
            text.Append(CultureInfo.InvariantCulture, $"{(step.Kind == SetKind.Log ? "apply_log" : "restore_set")} {step.Store} {step.Set}{(step.StopsAt is { } at ? $" --stop-at {Instants.Write(at)}" : "")}\n");
        }

        return text.Append("open_for_checks\ncheck\n").ToString();
    }

    private static string Verb(SetKind kind) => kind == SetKind.Log ? "apply log" : $"restore {kind.ToString().ToLowerInvariant()}";

    private static string Number(double seconds) => seconds.ToString("0.#", CultureInfo.InvariantCulture);
}
