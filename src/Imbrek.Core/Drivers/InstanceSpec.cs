using Imbrek.Core.Fleet;

namespace Imbrek.Core.Drivers;

/// <summary>An instance to restore into.</summary>
/// <param name="Name">Its name, unique on its host.</param>
/// <param name="Database">The database it is a restore of.</param>
/// <param name="Host">Where it runs.</param>
/// <param name="Owner">The run that made it: a call for an instance of the same name that another run made is refused.</param>
/// <param name="Mounted">Whether its sets are opened where they lie: it takes room for what is written over them alone, and reads from their stores as long as it stands.</param>
public sealed record InstanceSpec(string Name, Id<Database> Database, Id<Host> Host, Guid Owner, bool Mounted = false);
