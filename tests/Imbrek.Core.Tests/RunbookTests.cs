using System.Diagnostics;
using System.Text;
using Imbrek.Core.Catalogue;
using Imbrek.Core.Fleet;
using Imbrek.Core.Formats;
using Imbrek.Core.Objectives;
using Imbrek.Core.Recovery;
using NodaTime;
using Xunit;

namespace Imbrek.Core.Tests;

/// <summary>Scripts to take along, run through a real shell with names that no reader would let through.</summary>
public class RunbookTests
{
    private static readonly Instant Noon = Instant.FromUtc(2026, 3, 2, 12, 0);

    public static TheoryData<string> Names =>
        [";id>pwn;$(id)", "$(touch pwn)", "`touch pwn`", "a b", "-rf", "'", "''", "\"", "a'$(touch pwn)'b", "\\", "a\ntouch pwn\n", "*", "~", "#x", "&", "|", "!x", "${IFS}", "ä€"];

    /// <summary>Runs a script whose commands print their arguments, and gives what they were called with, line ends shown as ␤.</summary>
    private static string[] Run(string script)
    {
        var folder = Directory.CreateTempSubdirectory("imbrek-script");
        try
        {
            var stubs = string.Concat(((string[])["provision", "restore_set", "apply_log", "open_for_checks", "check"]).Select(c =>
                $"{c}() {{ printf '{c}'; for a in \"$@\"; do printf '\\001%s' \"$a\"; done; printf '\\002'; }}\n"));
            var file = Path.Combine(folder.FullName, "script.sh");
            File.WriteAllText(file, stubs + script, new UTF8Encoding(false));
            using var shell = Process.Start(new ProcessStartInfo("/bin/sh", [file]) { RedirectStandardOutput = true, RedirectStandardError = true, WorkingDirectory = folder.FullName })!;
            var said = shell.StandardOutput.ReadToEnd();
            var errors = shell.StandardError.ReadToEnd();
            shell.WaitForExit();
            Assert.Equal(("", 0), (errors, shell.ExitCode));
            Assert.Equal("script.sh", Assert.Single(folder.GetFileSystemInfos()).Name);
            return said.Split('\u0002', StringSplitOptions.RemoveEmptyEntries);
        }
        finally
        {
            folder.Delete(true);
        }
    }

    [Theory]
    [MemberData(nameof(Names))]
    public void Every_name_reaches_a_command_as_one_word_and_runs_nothing(string name)
    {
        var database = new Database { Id = new(name), Name = name, Engine = new("e"), SizeBytes = 1, Host = new("h"), RecoveryHosts = [], Branches = [] };
        PathStep Step(SetKind kind, Instant? stop) => new(new(name), kind, new(name), 1, stop, null);
        var path = new RestorePath(new(name), Noon, 0, 10, 10, 1, 1, [Step(SetKind.Full, null), Step(SetKind.Log, Noon)], default!);
        Assert.Equal(
            [$"provision\u0001{name}\u0001{name}-restored", $"restore_set\u0001{name}\u0001{name}", $"apply_log\u0001{name}\u0001{name}\u0001--stop-at\u0001{Instants.Write(Noon)}", "open_for_checks", "check"],
            Run(Runbook.Script(database, path, Noon)));
        var markdown = Runbook.Markdown(database, path, Noon, Loss.None);
        Assert.Equal(17, markdown.Split('\n').Length);
    }

    [Fact]
    public void A_word_with_a_nul_is_refused() => Assert.Throws<ArgumentException>(() => ShellWord.Of("a\0b"));
}
