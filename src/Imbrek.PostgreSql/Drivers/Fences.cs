using System.Globalization;
using Imbrek.Core.Drivers;
using Imbrek.PostgreSql.Cluster;

namespace Imbrek.PostgreSql.Drivers;

/// <summary>
/// The highest fence heard of a run, kept in a file beside what the run makes, so that all processes that share the folder refuse an older one.
/// </summary>
internal static class Fences
{
    /// <summary>Hears a call.</summary>
    /// <param name="file">The file.</param>
    /// <param name="call">The call.</param>
    /// <exception cref="DriverException">A higher fence has been heard of.</exception>
    public static void Hear(string file, RunCall call)
    {
        Directory.CreateDirectory(Path.GetDirectoryName(file)!, UnixFileMode.UserRead | UnixFileMode.UserWrite | UnixFileMode.UserExecute);
        FileStream stream;
        try
        {
            stream = new FileStream(file, FileMode.OpenOrCreate, FileAccess.ReadWrite, FileShare.None);
        }
        catch (IOException e) when (e is not (DirectoryNotFoundException or FileNotFoundException))
        {
            throw new DriverException(DriverProblem.Unreachable, $"another call for this run is being made ({e.Message})");
        }

        using (stream)
        {
            using var reader = new StreamReader(stream, leaveOpen: true);
            var heard = reader.ReadToEnd().Split(' ');
            if (heard.Length == 2 && Guid.TryParse(heard[0], out var run) && long.TryParse(heard[1], CultureInfo.InvariantCulture, out var fence) && run == call.Run && fence > call.Fence)
            {
                throw ClusterSpec.Stale(call.Run);
            }

            stream.SetLength(0);
            using var writer = new StreamWriter(stream, leaveOpen: true);
            writer.Write(string.Create(CultureInfo.InvariantCulture, $"{call.Run} {call.Fence}"));
        }
    }
}
